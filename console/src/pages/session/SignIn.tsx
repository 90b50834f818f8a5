import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button, Flex, Form, Input, theme, Typography } from 'antd'
import { api, got, keepCsrf } from '../../api/client'
import { Failed } from '../../parts/parts'

export function SignIn() {
  const { token } = theme.useToken()
  const queries = useQueryClient()
  const signIn = useMutation({
    mutationFn: (body: { name: string; password: string }) => got(api.POST('/api/v1/session', { body })),
    onSuccess: (session) => {
      keepCsrf(session.csrf)
      queries.setQueryData(['session'], session)
    },
  })
  return (
    <Flex justify="center" align="center" style={{ minHeight: '100vh', background: token.colorBgLayout, padding: 16 }}>
      <main style={{ width: 360, background: token.colorBgContainer, border: `1px solid ${token.colorBorderSecondary}`, borderRadius: 6, padding: 28 }}>
        <Typography.Title level={1} style={{ fontSize: 22, color: token.colorPrimary, marginTop: 0 }}>Pine Cart</Typography.Title>
        <Typography.Paragraph type="secondary">Copies, refreshes and audits files, and proves what it did.</Typography.Paragraph>
        <Form layout="vertical" requiredMark={false} onFinish={(body: { name: string; password: string }) => signIn.mutate(body)}>
          <Form.Item label="Name" name="name" rules={[{ required: true, message: 'Who are you?' }]}><Input autoFocus autoComplete="username" size="large" /></Form.Item>
          <Form.Item label="Password" name="password" rules={[{ required: true, message: 'Your password.' }]}><Input.Password autoComplete="current-password" size="large" /></Form.Item>
          {signIn.error && <div style={{ marginBottom: 16 }}><Failed error={signIn.error} /></div>}
          <Button type="primary" htmlType="submit" size="large" block loading={signIn.isPending}>Sign in</Button>
        </Form>
      </main>
    </Flex>
  )
}
