import { Button, Dropdown } from 'antd'
import type { ReactNode } from 'react'

interface Item {
  key: string
  label: ReactNode
  danger?: boolean
  onClick: () => void
}

interface Props {
  items: Item[]
  /** What is more there of, for those who don't see where the button stands. */
  label?: string
}

/** What is seldom done, in a menu that opens, moves and chooses by the keyboard as well. */
export function MoreMenu({ items, label }: Props) {
  const chosen = items.map((item) => ({
    ...item,
    onClick: ({ domEvent }: { domEvent: { preventDefault: () => void } }) => {
      domEvent.preventDefault() // else the same Enter also presses what has the focus next
      item.onClick()
    },
  }))
  return (
    <Dropdown autoFocus trigger={['click']} menu={{ items: chosen }}>
      {label ? (
        <Button size="small" aria-label={label}>
          More
        </Button>
      ) : (
        <Button>More</Button>
      )}
    </Dropdown>
  )
}
