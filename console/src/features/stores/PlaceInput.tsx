import { Button, Flex, Form, Input, Select } from 'antd'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, got } from '../../api/client'
import { place, tidy, type Place } from '../../lib/words'
import { PlacePicker } from './PlacePicker'

const ADDRESS = /^(?:[a-z0-9+]+:)?(?:\/\/|\\\\)|^[^\s@/]+@[^\s:/]+:/i

/**
 * A place as two parts: store and path. A whole location pasted into the path fills both, and so
 * does the address of a share, a server or a storage that a store reaches.
 */
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
  const [unknown, setUnknown] = useState('')
  const take = (picked: Place) => {
    form.setFieldValue(which, picked)
    setPicking(false)
    setUnknown('')
    onPicked?.()
  }
  const find = useMutation({
    mutationFn: (address: string) =>
      got(api.POST('/api/v1/store-forms/find', { body: { address } })),
    onSuccess: (told, address) => {
      const [closest] = told.locations
      if (closest) take(place(closest))
      else setUnknown(address)
    },
  })
  const paste = (text: string) => {
    const tidied = text.trim()
    if (tidied.startsWith('pine://')) {
      take(place(tidied))
      return true
    }
    if (!ADDRESS.test(tidied)) return false
    find.mutate(tidied)
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
      {(isPicking || unknown) && (
        <PlacePicker
          title={unknown ? 'No store reaches this address yet' : label}
          start={unknown ? {} : (form.getFieldValue(which) as Partial<Place>)}
          address={unknown}
          onTake={take}
          onClose={() => {
            setPicking(false)
            setUnknown('')
          }}
        />
      )}
    </Form.Item>
  )
}
