import { Flex, Form, Radio, Select, theme, Typography } from 'antd'
import type { Forms, JobOption } from '../../api/client'
import { FieldInput, type HelpFor } from '../../parts/FieldInput'
import { RareFields } from '../../parts/RareFields'

export type Use = 'job' | 'carry'
export const optionsOf = (forms: Forms, use: Use): JobOption[] =>
  forms.job_options.filter((o) => o.used_in.includes(use))

interface Props {
  options: JobOption[]
  help: HelpFor
  jobs?: string[]
  /** Of the rules that few need. */
  title?: string
  /** What each intent would do now, in words. */
  now?: (intent: string) => string
}

/** All the rules of a job or a copy, as the service describes them. */
export function JobOptions({ options, help, jobs = [], title = 'More rules', now }: Props) {
  const intent = Form.useWatch('intent') as string | undefined
  const isShown = (o: JobOption) => !o.shown_for.length || o.shown_for.includes(intent ?? 'renew')
  const helpFor =
    (o: JobOption): HelpFor =>
    (field) =>
      help(o.is_of_leg ? `legs[0].${field}` : field)
  const common = options.filter((o) => o.is_common && isShown(o))
  const rare = options.filter((o) => !o.is_common && isShown(o))
  const ofLeg = new Set(options.filter((o) => o.is_of_leg).map((o) => o.name))
  return (
    <>
      {common.map((o) => {
        if (o.name === 'intent')
          return <IntentInput key={o.name} option={o} help={help} now={now} />
        if (o.name === 'waits_for')
          return <JobsInput key={o.name} option={o} jobs={jobs} help={help} />
        return <FieldInput key={o.name} field={o} help={helpFor(o)} />
      })}
      <RareFields
        title={title}
        fields={rare}
        help={(field) => help(ofLeg.has(field) ? `legs[0].${field}` : field)}
      />
    </>
  )
}

/** What shall be true afterwards: the first sentence of each choice, and what follows from it. */
function IntentInput({
  option,
  help,
  now,
}: {
  option: JobOption
  help: HelpFor
  now?: (intent: string) => string
}) {
  const { token } = theme.useToken()
  return (
    <Form.Item label={option.title} name={option.name} {...help(option.name)}>
      <Radio.Group>
        <Flex vertical gap={4}>
          {option.choices.map((c) => {
            const end = c.title.indexOf('. ') + 1
            return (
              <Radio key={c.value} value={c.value}>
                <b>{c.title.slice(0, end)}</b>{' '}
                <span style={c.is_danger ? { color: token.colorWarning } : undefined}>
                  {c.title.slice(end + 1)}
                </span>
                {now?.(c.value) && (
                  <Typography.Text type="secondary"> {now(c.value)}</Typography.Text>
                )}
              </Radio>
            )
          })}
        </Flex>
      </Radio.Group>
    </Form.Item>
  )
}

function JobsInput({ option, jobs, help }: { option: JobOption; jobs: string[]; help: HelpFor }) {
  return (
    <Form.Item label={option.title} name={option.name} extra={option.help} {...help(option.name)}>
      <Select
        mode="multiple"
        placeholder="No other job"
        options={jobs.map((value) => ({ value }))}
      />
    </Form.Item>
  )
}
