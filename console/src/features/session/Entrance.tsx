/** The frame of what is seen before anybody is signed in. */
import { Flex, theme, Typography } from 'antd'
import type { ReactNode } from 'react'

export function Entrance({ children }: { children: ReactNode }) {
  const { token } = theme.useToken()
  return (
    <Flex
      justify="center"
      align="center"
      style={{ minHeight: '100vh', background: token.colorBgLayout, padding: 16 }}
    >
      <main
        style={{
          width: 360,
          background: token.colorBgContainer,
          border: `1px solid ${token.colorBorderSecondary}`,
          borderRadius: 6,
          padding: 28,
        }}
      >
        <Typography.Title
          level={1}
          style={{ fontSize: 22, color: token.colorPrimary, marginTop: 0 }}
        >
          Pine Cart
        </Typography.Title>
        {children}
      </main>
    </Flex>
  )
}
