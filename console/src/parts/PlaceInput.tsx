import { Flex, Form, Input, Select } from 'antd'
import { place, tidy } from '../lib/words'

/** A place as two parts: store and path. A whole location pasted into the path fills both. */
export function PlaceInput({
  which,
  label,
  stores,
  hint,
  help,
}: {
  which: string
  label: string
  stores: string[]
  hint: string
  help?: object
}) {
  const form = Form.useFormInstance()
  const paste = (text: string) => {
    if (!text.trim().startsWith('pine://')) return false
    form.setFieldValue(which, place(text.trim()))
    return true
  }
  return (
    <Form.Item label={label} required {...help}>
      <Flex gap={8}>
        <Form.Item
          noStyle
          name={[which, 'store']}
          rules={[{ required: true, message: 'Choose a store.' }]}
        >
          <Select
            aria-label={`${label}: store`}
            placeholder="Store"
            options={stores.map((s) => ({ value: s, label: s }))}
            style={{ width: 150 }}
            showSearch
          />
        </Form.Item>
        <Form.Item noStyle name={[which, 'path']} normalize={(v: string) => tidy(v)}>
          <Input
            aria-label={`${label}: path`}
            placeholder={hint}
            style={{ fontFamily: 'monospace' }}
            onPaste={(e) => {
              if (paste(e.clipboardData.getData('text'))) e.preventDefault()
            }}
          />
        </Form.Item>
      </Flex>
    </Form.Item>
  )
}
