import { theme } from 'antd'
import type { ReactNode } from 'react'

/** What a chart tells at the pointer. */
export function ChartTip({ children }: { children: ReactNode }) {
  const { token } = theme.useToken()
  return (
    <div style={{ background: token.colorBgElevated, padding: 8, boxShadow: token.boxShadow }}>
      {children}
    </div>
  )
}
