import { Button, Flex, Form, Input, Select } from 'antd'
import { useState } from 'react'
import { place, tidy, type Place } from '../../lib/words'
import { PlacePicker } from './PlacePicker'

/** A place as two parts: store and path. A whole location pasted into the path fills both. */
export function PlaceInput({
  which,
  label,
  stores,
  hint,
  help,
  onPicked,
}: {
  which: string
  label: string
  stores: string[]
  hint: string
  help?: object
  /** A form hears of what is typed, not of what is set. */
  onPicked?: () => void
}) {
  const form = Form.useFormInstance()
  const [isPicking, setPicking] = useState(false)
  const take = (picked: Place) => {
    form.setFieldValue(which, picked)
    setPicking(false)
    onPicked?.()
  }
  const paste = (text: string) => {
    if (!text.trim().startsWith('pine://')) return false
    form.setFieldValue(which, place(text.trim()))
    onPicked?.()
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
        <Button aria-label={`${label}: browse`} onClick={() => setPicking(true)}>
          Browse
        </Button>
      </Flex>
      {isPicking && (
        <PlacePicker
          title={label}
          start={form.getFieldValue(which) as Partial<Place>}
          onTake={take}
          onClose={() => setPicking(false)}
        />
      )}
    </Form.Item>
  )
}
