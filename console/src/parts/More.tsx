import { Button } from 'antd'

interface Pages {
  hasNextPage: boolean
  isFetchingNextPage: boolean
  fetchNextPage: () => Promise<unknown>
}

/** The button below a list that has more pages; nothing where it has none. */
export function More({ of }: { of: Pages }) {
  if (!of.hasNextPage) return null
  return (
    <Button
      onClick={() => void of.fetchNextPage()}
      loading={of.isFetchingNextPage}
      style={{ marginTop: 12 }}
    >
      More
    </Button>
  )
}
