import { Flex, Form, Input, InputNumber, Radio, Select, theme } from 'antd'
import { INTENTS } from './choices'

/** What shall be true afterwards; and, where something is removed for it, how long that is kept. */
export function IntentField({
  help,
  asideHelp,
  jobs,
}: {
  help: object
  asideHelp?: object
  jobs?: string[]
}) {
  const { token } = theme.useToken()
  return (
    <>
      <Form.Item label="What shall be true afterwards" name="intent" {...help}>
        <Radio.Group>
          <Flex vertical gap={4}>
            {INTENTS.map((i) => (
              <Radio key={i.value} value={i.value}>
                <b>{i.title}</b>{' '}
                <span style={i.removes ? { color: token.colorWarning } : undefined}>{i.says}</span>
              </Radio>
            ))}
          </Flex>
        </Radio.Group>
      </Form.Item>
      <Form.Item
        noStyle
        shouldUpdate={(a: { intent: string }, b: { intent: string }) => a.intent !== b.intent}
      >
        {({ getFieldValue }) =>
          getFieldValue('intent') !== 'top-up' && (
            <Flex gap={12} wrap>
              {INTENTS.find((i) => i.value === getFieldValue('intent'))?.removes ? (
                <Form.Item
                  label="What is removed or replaced is set aside for"
                  name="set_aside"
                  extra="0 days: deleted for good, at once."
                >
                  <InputNumber min={0} max={3650} suffix="days" placeholder="14" />
                </Form.Item>
              ) : (
                <Form.Item label="What is replaced is set aside for" name="set_aside">
                  <InputNumber min={0} max={3650} suffix="days" placeholder="0" />
                </Form.Item>
              )}
              {asideHelp && (
                <Form.Item
                  label="in the folder"
                  name="aside_in"
                  extra="From the store's or the bucket's root on."
                  {...asideHelp}
                >
                  <Input
                    placeholder=".pinecart-aside"
                    style={{ width: 220, fontFamily: 'monospace' }}
                  />
                </Form.Item>
              )}
            </Flex>
          )
        }
      </Form.Item>
      {jobs && (
        <Form.Item
          noStyle
          shouldUpdate={(a: { intent: string }, b: { intent: string }) => a.intent !== b.intent}
        >
          {({ getFieldValue }) =>
            getFieldValue('intent') === 'hand-over' && (
              <Form.Item
                label="Waits for"
                name="waits_for"
                extra="Other jobs that take from the same place: a file is cleared only once they took it too."
              >
                <Select
                  mode="multiple"
                  placeholder="No other job"
                  options={jobs.map((j) => ({ value: j }))}
                />
              </Form.Item>
            )
          }
        </Form.Item>
      )}
    </>
  )
}
