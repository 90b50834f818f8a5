import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button, Form, Input, Typography } from 'antd'
import { useNavigate } from 'react-router'
import { api, got, keepCsrf, Refusal } from '../../api/client'
import { sessionQuery } from '../../api/session'
import { Failed } from '../../parts/parts'
import { Entrance } from './Entrance'

interface Given {
  code: string
  password: string
}

/** The first way in, or the way back: a code from an administrator, and a password of one's own. */
export function Enter() {
  const queries = useQueryClient()
  const navigate = useNavigate()
  const enter = useMutation({
    mutationFn: (body: Given) => got(api.POST('/api/v1/entry', { body })),
    onSuccess: (session) => {
      keepCsrf(session.csrf)
      queries.setQueryData(sessionQuery().queryKey, session)
      void navigate('/')
    },
  })
  const refusal = enter.error instanceof Refusal ? enter.error : null
  const told = (field: string) =>
    refusal?.of(field) ? { validateStatus: 'error' as const, help: refusal.of(field) } : {}
  return (
    <Entrance>
      <Typography.Paragraph type="secondary">
        Set your password with the code that you were given.
      </Typography.Paragraph>
      <Form layout="vertical" requiredMark={false} onFinish={(given: Given) => enter.mutate(given)}>
        <Form.Item
          label="Entry code"
          name="code"
          rules={[{ required: true, message: 'It begins with pce_.' }]}
          {...told('code')}
        >
          <Input autoFocus autoComplete="off" size="large" />
        </Form.Item>
        <Form.Item
          label="New password"
          name="password"
          extra="12 characters or more, not a common one, not your name."
          rules={[{ required: true, message: 'A password of your own.' }]}
          {...told('password')}
        >
          <Input.Password autoComplete="new-password" size="large" />
        </Form.Item>
        {refusal && !refusal.of('code') && !refusal.of('password') && (
          <div style={{ marginBottom: 16 }}>
            <Failed error={refusal} />
          </div>
        )}
        <Button type="primary" htmlType="submit" size="large" block loading={enter.isPending}>
          Set password and sign in
        </Button>
      </Form>
    </Entrance>
  )
}
