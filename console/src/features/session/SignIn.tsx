import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button, Form, Input, Typography } from 'antd'
import { Link } from 'react-router'
import { api, got, keepCsrf, Refusal } from '../../api/client'
import { sessionQuery } from '../../api/session'
import { Failed } from '../../parts/parts'
import { Entrance } from './Entrance'

interface Given {
  name: string
  password: string
  code?: string
}

export function SignIn() {
  const queries = useQueryClient()
  const signIn = useMutation({
    mutationFn: (body: Given) => got(api.POST('/api/v1/session', { body })),
    onSuccess: (session) => {
      keepCsrf(session.csrf)
      queries.setQueryData(sessionQuery().queryKey, session)
    },
  })
  const codeAsked = signIn.error instanceof Refusal && signIn.error.code === 'second-factor.asked'
  const codeWasWrong = codeAsked && !!signIn.variables?.code
  return (
    <Entrance>
      <Typography.Paragraph type="secondary">
        Copies, refreshes and audits files, and proves what it did.
      </Typography.Paragraph>
      <Form
        layout="vertical"
        requiredMark={false}
        onFinish={(given: Given) => signIn.mutate(given)}
      >
        <Form.Item label="Name" name="name" rules={[{ required: true, message: 'Who are you?' }]}>
          <Input autoFocus autoComplete="username" size="large" />
        </Form.Item>
        <Form.Item
          label="Password"
          name="password"
          rules={[{ required: true, message: 'Your password.' }]}
        >
          <Input.Password autoComplete="current-password" size="large" />
        </Form.Item>
        {codeAsked && (
          <Form.Item
            label="Code"
            name="code"
            rules={[{ required: true, message: 'The code of now.' }]}
            validateStatus={codeWasWrong ? 'error' : undefined}
            help={
              codeWasWrong
                ? 'Not right, or taken already: wait for the next one.'
                : 'From the device that holds your second factor.'
            }
          >
            <Input autoFocus inputMode="numeric" autoComplete="one-time-code" size="large" />
          </Form.Item>
        )}
        {signIn.error && !codeAsked && (
          <div style={{ marginBottom: 16 }}>
            <Failed error={signIn.error} />
          </div>
        )}
        <Button type="primary" htmlType="submit" size="large" block loading={signIn.isPending}>
          Sign in
        </Button>
        <Typography.Paragraph style={{ marginTop: 16, marginBottom: 0 }}>
          <Link to="/enter">I was given an entry code</Link>
        </Typography.Paragraph>
      </Form>
    </Entrance>
  )
}
