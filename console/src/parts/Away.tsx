import { Alert } from 'antd'
import { useSyncExternalStore } from 'react'
import { presence } from '../api/client'

/** Said on every page while the service doesn't answer. */
export function Away() {
  const isAway = useSyncExternalStore(presence.subscribe, presence.isAway)
  if (!isAway) return null
  return (
    <Alert
      type="warning"
      role="status"
      showIcon={false}
      style={{ marginBottom: 12 }}
      title="▲ The service does not answer. What you see is what was last heard; the console goes on asking."
    />
  )
}
