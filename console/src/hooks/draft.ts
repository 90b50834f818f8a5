import type { FormInstance } from 'antd'
import { useCallback, useEffect, useState } from 'react'

/**
 * What was filled in and not saved survives a reload of the page: kept in the tab's own storage,
 * under a name for each form. Secrets don't belong into such a form.
 */
export function useDraft<Values extends object>(name: string, form: FormInstance<Values>) {
  const key = `draft ${name}`
  const [kept, setKept] = useState(() => sessionStorage.getItem(key))
  useEffect(() => {
    if (kept) form.setFieldsValue(JSON.parse(kept) as Parameters<typeof form.setFieldsValue>[0])
  }, [kept, form])
  const keep = useCallback(
    () => sessionStorage.setItem(key, JSON.stringify(form.getFieldsValue(true))),
    [key, form],
  )
  const forget = useCallback(() => {
    sessionStorage.removeItem(key)
    setKept(null)
  }, [key])
  return { keep, forget, isRestored: kept !== null }
}
