import type { InputRef } from 'antd'
import { useRef } from 'react'

/** For a dialog: once it is open, its first field has the focus, and no longer its close button. */
export function useFirstField() {
  const field = useRef<InputRef>(null)
  const afterOpenChange = (isOpen: boolean) => {
    if (isOpen) field.current?.focus()
  }
  return { field, afterOpenChange }
}
