import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button, Card, Flex, Form, Input, QRCode, Typography } from 'antd'
import { api, got } from '../../api/client'
import { Failed } from '../../parts/parts'

/** Set up, confirmed by a first code, or taken off. */
export function SecondFactor({ state }: { state: 'off' | 'on' | 'due' }) {
  const queries = useQueryClient()
  const again = () => queries.invalidateQueries()
  const begin = useMutation({
    mutationFn: (body: { password: string }) =>
      got(api.POST('/api/v1/session/second-factor', { body })),
  })
  const confirm = useMutation({
    mutationFn: (body: { code: string }) => got(api.PUT('/api/v1/session/second-factor', { body })),
    onSuccess: () => {
      begin.reset()
      return again()
    },
  })
  const takeOff = useMutation({
    mutationFn: (body: { password: string }) =>
      got(api.POST('/api/v1/session/second-factor/off', { body })),
    onSuccess: again,
  })
  const title = {
    on: 'Second factor: on',
    off: 'Second factor: off',
    due: 'Second factor: administrators need one here',
  }[state]
  const failed = begin.error ?? confirm.error ?? takeOff.error
  return (
    <Card title={title} size="small">
      {state === 'on' ? (
        <>
          <Typography.Paragraph>
            Signing in asks for a code of your device beside the password.
          </Typography.Paragraph>
          <WithPassword
            button="Take it off"
            danger
            pending={takeOff.isPending}
            onFinish={(body) => takeOff.mutate(body)}
          />
        </>
      ) : begin.data ? (
        <Flex gap={20} wrap>
          <QRCode
            value={begin.data.address}
            size={168}
            bordered={false}
            aria-label="The second factor's address, to be scanned"
          />
          <div style={{ flex: 1, minWidth: 240 }}>
            <Typography.Paragraph>
              Scan it with an authenticator, or type this secret into it. It is told this once.
            </Typography.Paragraph>
            <Typography.Paragraph code copyable>
              {begin.data.secret}
            </Typography.Paragraph>
            <Form
              layout="inline"
              colon={false}
              requiredMark={false}
              onFinish={(body: { code: string }) => confirm.mutate(body)}
            >
              <Form.Item
                label="Its first code"
                name="code"
                rules={[{ required: true, message: 'Six digits.' }]}
              >
                <Input inputMode="numeric" autoComplete="one-time-code" style={{ width: 110 }} />
              </Form.Item>
              <Button type="primary" htmlType="submit" loading={confirm.isPending}>
                Confirm
              </Button>
            </Form>
          </div>
        </Flex>
      ) : (
        <>
          <Typography.Paragraph>
            Codes from a device of yours, beside the password: a password that somebody learned is
            not enough then.
          </Typography.Paragraph>
          <WithPassword
            button="Set it up"
            pending={begin.isPending}
            onFinish={(body) => begin.mutate(body)}
          />
        </>
      )}
      {failed && (
        <div style={{ marginTop: 12 }}>
          <Failed error={failed} />
        </div>
      )}
    </Card>
  )
}

interface WithPasswordProps {
  button: string
  danger?: boolean
  pending: boolean
  onFinish: (body: { password: string }) => void
}

function WithPassword({ button, danger, pending, onFinish }: WithPasswordProps) {
  return (
    <Form layout="inline" colon={false} requiredMark={false} onFinish={onFinish}>
      <Form.Item
        label="Your password"
        name="password"
        rules={[{ required: true, message: 'Your password.' }]}
      >
        <Input.Password autoComplete="current-password" />
      </Form.Item>
      <Button htmlType="submit" danger={danger} loading={pending}>
        {button}
      </Button>
    </Form>
  )
}
