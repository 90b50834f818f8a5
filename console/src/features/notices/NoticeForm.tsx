import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Checkbox, Flex, Form, Input, Modal, Radio, Typography } from 'antd'
import { useState } from 'react'
import { api, got } from '../../api/client'
import { Failed } from '../../parts/parts'
import { KINDS, USUAL, type Kind } from './kinds'

interface Filled {
  way: 'mail' | 'web' | 'marker'
  to: string
  kinds: Kind[]
  job: string
  label: string
  once_at: string
  quiet: string
}

const TO = {
  mail: ['Addresses', 'wren@larkfell.example'],
  web: ['Address that is called', 'https://larkfell.example/hook'],
  marker: ['Place of the object', 'pine://office/larkfell/done.json'],
} as const
const START: Filled = {
  way: 'mail',
  to: '',
  kinds: USUAL,
  job: '',
  label: '',
  once_at: '',
  quiet: '',
}

interface Optional {
  name: 'job' | 'label' | 'once_at' | 'quiet'
  label: string
  extra: string
  example: string
}

const OF: Optional[] = [
  { name: 'job', label: 'Only of the job', extra: 'Empty: of all.', example: 'dawn-recordings' },
  { name: 'label', label: 'Only of the label', extra: 'Empty: of all.', example: 'night' },
]
const TIMES: Optional[] = [
  {
    name: 'once_at',
    label: 'In one message a day, at',
    extra: 'Empty: as it happens.',
    example: '07:30 Europe/London',
  },
  {
    name: 'quiet',
    label: 'Not between',
    extra: 'But after it. Empty: at any time.',
    example: '22:00-06:00 Europe/London',
  },
]

const optional = ({ name, label, extra, example }: Optional) => (
  <Form.Item key={name} name={name} label={label} extra={extra}>
    <Input placeholder={example} />
  </Form.Item>
)

export function NoticeForm({ onClose }: { onClose: () => void }) {
  const [form] = Form.useForm<Filled>()
  const way = Form.useWatch('way', form) ?? 'mail'
  const queries = useQueryClient()
  const [secret, setSecret] = useState('')
  const save = useMutation({
    mutationFn: ({ to, ...rest }: Filled) =>
      got(
        api.POST('/api/v1/notices', {
          body: { ...rest, is_on: true, to: to.split(/[\s,;]+/).filter(Boolean) },
        }),
      ),
    onSuccess: async (made) => {
      await queries.invalidateQueries({ queryKey: ['notices'] })
      if (made.secret) setSecret(made.secret)
      else onClose()
    },
  })
  if (secret)
    return (
      <Modal open title="Its calls are signed" onCancel={onClose} onOk={onClose} okText="I have it">
        <Typography.Paragraph>
          With this secret, which is told this once. Each call carries its time and the HMAC-SHA-256
          of time, line feed and body.
        </Typography.Paragraph>
        <Typography.Text code copyable style={{ overflowWrap: 'anywhere' }}>
          {secret}
        </Typography.Text>
      </Modal>
    )
  return (
    <Modal
      open
      title="Tell somebody"
      okText="Tell them from now on"
      onCancel={onClose}
      onOk={() => form.submit()}
      confirmLoading={save.isPending}
    >
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={START}
        onFinish={(filled: Filled) => save.mutate(filled)}
      >
        <Form.Item name="way" label="How">
          <Radio.Group
            options={[
              { value: 'mail', label: 'By e-mail' },
              { value: 'web', label: 'By a signed web call' },
              { value: 'marker', label: 'By an object that is written' },
            ]}
          />
        </Form.Item>
        <Form.Item name="to" label={TO[way][0]} rules={[{ required: true, message: 'Say whom.' }]}>
          <Input placeholder={TO[way][1]} />
        </Form.Item>
        <Form.Item name="kinds" label="When">
          <Checkbox.Group
            options={Object.entries(KINDS).map(([value, label]) => ({ value, label }))}
          />
        </Form.Item>
        <Flex gap={12}>{OF.map(optional)}</Flex>
        <Flex gap={12}>{TIMES.map(optional)}</Flex>
        {save.error && <Failed error={save.error} />}
      </Form>
    </Modal>
  )
}
