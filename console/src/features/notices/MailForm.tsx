import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Card, Flex, Form, Input, InputNumber, Select, Typography } from 'antd'
import { api, got, type MailServer } from '../../api/client'
import { mailQuery } from '../../api/notices'
import { Failed, Loaded } from '../../parts/parts'

type Filled = Omit<MailServer, 'has_password'> & { password?: string }

/** Where e-mail is handed in. */
export function MailForm() {
  const query = useQuery(mailQuery())
  return (
    <Card size="small" title="Mail server">
      <Loaded query={query}>{(told) => <Fields told={told} />}</Loaded>
    </Card>
  )
}

function Fields({ told }: { told: MailServer }) {
  const queries = useQueryClient()
  const save = useMutation({
    mutationFn: ({ password, ...rest }: Filled) =>
      got(api.PUT('/api/v1/mail', { body: password ? { ...rest, password } : rest })),
    onSuccess: (now) => queries.setQueryData(mailQuery().queryKey, now),
  })
  return (
    <Form<Filled>
      layout="vertical"
      requiredMark={false}
      initialValues={told}
      onFinish={(filled) => save.mutate(filled)}
    >
      <Flex gap={12} wrap>
        <Form.Item name="host" label="Host">
          <Input placeholder="mail.larkfell.example" style={{ width: 220 }} />
        </Form.Item>
        <Form.Item name="port" label="Port">
          <InputNumber min={1} max={65535} style={{ width: 90 }} />
        </Form.Item>
        <Form.Item name="security" label="Line">
          <Select
            style={{ width: 200 }}
            options={[
              { value: 'starttls', label: 'TLS once connected' },
              { value: 'tls', label: 'TLS from the start' },
              { value: 'none', label: 'Not encrypted' },
            ]}
          />
        </Form.Item>
        <Form.Item name="user" label="User">
          <Input autoComplete="off" style={{ width: 180 }} />
        </Form.Item>
        <Form.Item name="password" label="Password">
          <Input.Password
            autoComplete="new-password"
            placeholder={told.has_password ? 'kept as it is' : ''}
            style={{ width: 180 }}
          />
        </Form.Item>
        <Form.Item name="sender" label="From">
          <Input placeholder="cart@larkfell.example" style={{ width: 220 }} />
        </Form.Item>
        <Form.Item name="address" label="The console's address, for links">
          <Input placeholder="https://cart.larkfell.example" style={{ width: 280 }} />
        </Form.Item>
      </Flex>
      {save.error && <Failed error={save.error} />}
      <Flex gap={12} align="center">
        <Button htmlType="submit" loading={save.isPending}>
          Save
        </Button>
        {save.isSuccess && <Typography.Text role="status">Saved.</Typography.Text>}
      </Flex>
    </Form>
  )
}
