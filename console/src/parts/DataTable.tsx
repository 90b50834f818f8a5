import { Flex, Grid, Table, type TableProps, Typography } from 'antd'
import type { ReactNode } from 'react'

type Props<Row extends object> = Omit<TableProps<Row>, 'rowKey' | 'dataSource'> & {
  rows: Row[]
  rowKey: keyof Row & string
  /** How one row looks where the screen is narrow; without, the table stays one. */
  card?: (row: Row) => ReactNode
  /** What is said where there is no row. */
  empty?: string
}

/** A table as all of the console has it; cards where there is no room for its columns. */
export function DataTable<Row extends object>({ rows, rowKey, card, empty, ...table }: Props<Row>) {
  const isWide = Grid.useBreakpoint().lg
  const nothing = empty && <Typography.Text type="secondary">{empty}</Typography.Text>
  if (card && !isWide)
    return (
      <Flex vertical gap={12}>
        {rows.length === 0 && nothing}
        {rows.map((row) => (
          <div key={String(row[rowKey])}>{card(row)}</div>
        ))}
      </Flex>
    )
  return (
    <Table<Row>
      size="small"
      rowKey={rowKey}
      dataSource={rows}
      pagination={false}
      sticky
      {...(nothing && { locale: { emptyText: nothing } })}
      {...table}
    />
  )
}
