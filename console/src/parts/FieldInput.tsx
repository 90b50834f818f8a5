import { Checkbox, Flex, Form, Input, InputNumber, Select } from 'antd'
import type { ReactNode } from 'react'
import type { Field } from '../api/client'

const MONO = { fontFamily: 'monospace' }
export type HelpFor = (field: string) => object

/** What is so without a value, as the form says it. */
function unset(field: Field): string | undefined {
  const choice = field.choices.find((c) => c.value === field.default)
  return choice?.title ?? (field.default || field.example || undefined)
}

function options(field: Field) {
  return field.choices.map((c) => ({ value: c.value, label: c.title }))
}

/** The input that belongs to a field's type. */
function inputFor(field: Field): ReactNode {
  switch (field.type) {
    case 'unseen':
      return <Input.Password autoComplete="new-password" style={MONO} />
    case 'block':
      return <Input.TextArea rows={3} style={MONO} />
    case 'choice':
    case 'yes-no':
      return <Select allowClear placeholder={unset(field)} options={options(field)} />
    case 'choices':
      return <Checkbox.Group options={options(field)} />
    case 'flag':
      return <Checkbox>{field.help}</Checkbox>
    case 'number':
      return (
        <InputNumber
          min={field.least}
          max={field.most}
          placeholder={unset(field)}
          style={{ width: '100%', maxWidth: 420 }}
        />
      )
    case 'seconds':
      return <InputNumber min={0} suffix="s" style={{ width: 180 }} />
    case 'list':
      return (
        <Select
          mode="tags"
          open={false}
          suffixIcon={null}
          tokenSeparators={[',']}
          placeholder={unset(field)}
        />
      )
    case 'size':
    case 'age':
    case 'date':
      return <Input placeholder={unset(field)} style={{ width: 180 }} />
    default:
      return <Input placeholder={unset(field)} autoComplete="off" style={MONO} />
  }
}

interface Props {
  field: Field
  help: HelpFor
  label?: string
  extra?: ReactNode
  required?: boolean
}

/** One field of a form, as the service describes it. */
export function FieldInput({ field, help, label, extra, required = false }: Props) {
  const name = field.name
  if (field.type === 'numbers')
    return (
      <Form.Item label={field.title} extra={field.help}>
        <Flex gap={12} wrap>
          {field.choices.map((c) => (
            <Form.Item
              key={c.value}
              name={[name, c.value]}
              label={c.title}
              style={{ marginBottom: 0 }}
              {...help(`${name}.${c.value}`)}
            >
              <InputNumber min={0} style={{ width: 130 }} />
            </Form.Item>
          ))}
        </Flex>
      </Form.Item>
    )
  if (field.type === 'renaming')
    return (
      <Flex gap={12} wrap>
        <Form.Item
          label={field.title}
          name={[name, 'to']}
          extra={field.help}
          style={{ flex: '2 1 260px' }}
          {...help(name)}
        >
          <Input placeholder={field.example} style={MONO} />
        </Form.Item>
        <Form.Item label="Pattern" name={[name, 'pattern']} style={{ flex: '1 1 180px' }}>
          <Input placeholder="none: a template" style={MONO} />
        </Form.Item>
      </Flex>
    )
  const isFlag = field.type === 'flag'
  const isSaid = !isFlag && field.type !== 'choice' // each choice says what it is
  return (
    <Form.Item
      label={label ?? field.title}
      name={name}
      required={required}
      extra={extra ?? (isSaid ? field.help : undefined)}
      {...(isFlag ? { valuePropName: 'checked' } : {})}
      {...help(name)}
    >
      {inputFor(field)}
    </Form.Item>
  )
}

/** A value that says nothing: left out of what is sent. */
const isUnset = (value: unknown): boolean =>
  value == null ||
  value === '' ||
  value === false ||
  (typeof value === 'object' && Object.values(value).every(isUnset))

/** What was filled in, of these fields. */
export function filledIn(fields: Field[], values: Record<string, unknown>) {
  const given = fields
    .filter((f) => !isUnset(values[f.name]))
    .map((f) => [f.name, f.type === 'numbers' ? withoutUnset(values[f.name]) : values[f.name]])
  return Object.fromEntries(given) as Record<string, unknown>
}

const withoutUnset = (numbers: unknown) =>
  Object.fromEntries(Object.entries(numbers as object).filter(([, n]) => n != null))
