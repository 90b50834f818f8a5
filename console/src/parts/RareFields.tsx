import { Collapse, Form } from 'antd'
import type { Field } from '../api/client'
import { FieldInput, filledIn, type HelpFor } from './FieldInput'

const SHORT = new Set<Field['type']>(['size', 'age', 'date', 'seconds', 'number'])
const GRID = {
  display: 'grid',
  gridTemplateColumns: 'repeat(auto-fill, minmax(210px, 1fr))',
  columnGap: 16,
}

interface Props {
  title: string
  fields: Field[]
  help: HelpFor
}

/** What few need: folded away, unless something in it is set. */
export function RareFields({ title, fields, help }: Props) {
  const form = Form.useFormInstance()
  if (!fields.length) return null
  const isSet = Object.keys(filledIn(fields, form.getFieldsValue(true))).length > 0
  const inputs = fields.map((f) => (
    <div key={f.name} style={SHORT.has(f.type) ? {} : { gridColumn: '1 / -1' }}>
      <FieldInput field={f} help={help} />
    </div>
  ))
  return (
    <Collapse
      size="small"
      style={{ marginBottom: 16 }}
      defaultActiveKey={isSet ? ['rare'] : []}
      items={[
        {
          key: 'rare',
          label: title,
          forceRender: true,
          children: <div style={GRID}>{inputs}</div>,
        },
      ]}
    />
  )
}
