import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Card, Flex, Form, Input, InputNumber, Select, Typography } from 'antd'
import { useState } from 'react'
import { api, got, type Session } from '../../api/client'
import { Failed, PageHead, useSession } from '../../parts/parts'
import { SessionsTable, TokensTable } from './Access'
import { SecondFactor } from './SecondFactor'
import { RIGHTS } from './rights'

/** One's own access: password, second factor, sessions, tokens. */
export default function OwnPage() {
  const session = useSession().data
  if (!session) return null
  if (session.second_factor === 'due')
    return (
      <>
        <PageHead title={`Welcome, ${session.name}`} />
        <SecondFactor state="due" />
      </>
    )
  return (
    <>
      <PageHead title={`Your access, ${session.name}`} />
      <Flex vertical gap={16}>
        <Flex gap={16} wrap align="stretch">
          <div style={{ flex: '1 1 340px' }}>
            <OwnPassword />
          </div>
          <div style={{ flex: '1 1 420px' }}>
            <SecondFactor state={session.second_factor} />
          </div>
        </Flex>
        <Card title="Where you are signed in" size="small">
          <SessionsTable everybodys={false} />
        </Card>
        <Card title="Your tokens" size="small">
          <NewToken session={session} />
          <TokensTable everybodys={false} />
        </Card>
      </Flex>
    </>
  )
}

interface Passwords {
  old: string
  new: string
}

function OwnPassword() {
  const queries = useQueryClient()
  const [form] = Form.useForm<Passwords>()
  const change = useMutation({
    mutationFn: (body: Passwords) => got(api.PUT('/api/v1/session/password', { body })),
    onSuccess: () => {
      form.resetFields()
      return queries.invalidateQueries()
    },
  })
  return (
    <Card title="Password" size="small" style={{ height: '100%' }}>
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={(body: Passwords) => change.mutate(body)}
      >
        <Form.Item
          label="Present password"
          name="old"
          rules={[{ required: true, message: 'Your present password.' }]}
        >
          <Input.Password autoComplete="current-password" />
        </Form.Item>
        <Form.Item
          label="New password"
          name="new"
          extra="12 characters or more. Your other sessions end."
          rules={[{ required: true, message: 'A new one.' }]}
        >
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        <Button htmlType="submit" loading={change.isPending}>
          Change it
        </Button>
      </Form>
      {change.isSuccess && (
        <Typography.Paragraph
          type="success"
          style={{ marginTop: 12, marginBottom: 0 }}
          role="status"
        >
          ✓ changed
        </Typography.Paragraph>
      )}
      {change.error && (
        <div style={{ marginTop: 12 }}>
          <Failed error={change.error} />
        </div>
      )}
    </Card>
  )
}

interface TokenGiven {
  name: string
  days?: number
  right?: (typeof RIGHTS)[number]
}

function NewToken({ session }: { session: Session }) {
  const queries = useQueryClient()
  const [text, setText] = useState('')
  const make = useMutation({
    mutationFn: (body: TokenGiven) => got(api.POST('/api/v1/tokens', { body })),
    onSuccess: (made) => {
      setText(made.token)
      return queries.invalidateQueries({ queryKey: ['tokens'] })
    },
  })
  const carries = RIGHTS.filter((right) => session.rights.includes(right))
  return (
    <div style={{ marginBottom: 16 }}>
      <Form
        layout="inline"
        colon={false}
        requiredMark={false}
        initialValues={{ days: 90 }}
        onFinish={(body: TokenGiven) => make.mutate(body)}
        style={{ rowGap: 8 }}
      >
        <Form.Item label="For" name="name" rules={[{ required: true, message: 'What is it for?' }]}>
          <Input placeholder="nightly-script" style={{ width: 180 }} />
        </Form.Item>
        <Form.Item label="Ends after" name="days">
          <InputNumber min={1} max={36500} suffix="days" style={{ width: 130 }} />
        </Form.Item>
        <Form.Item label="No more than" name="right">
          <Select
            allowClear
            placeholder="all your rights"
            style={{ width: 150 }}
            options={carries.map((value) => ({ value, label: value }))}
          />
        </Form.Item>
        <Button htmlType="submit" loading={make.isPending}>
          Make a token
        </Button>
      </Form>
      {text && (
        <Alert
          style={{ marginTop: 12 }}
          type="success"
          showIcon={false}
          closable={{ onClose: () => setText('') }}
          title="Told this once:"
          description={
            <Typography.Text code copyable style={{ overflowWrap: 'anywhere' }}>
              {text}
            </Typography.Text>
          }
        />
      )}
      {make.error && (
        <div style={{ marginTop: 12 }}>
          <Failed error={make.error} />
        </div>
      )}
    </div>
  )
}
