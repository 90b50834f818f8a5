import { useInfiniteQuery } from '@tanstack/react-query'
import { Empty, Flex, Typography } from 'antd'
import { Link } from 'react-router'
import type { FileRow } from '../api/client'
import { REASONS } from '../lib/words'
import { Bytes, Loaded } from './parts'
import { DataTable } from './DataTable'
import { More } from './More'

interface Props {
  of: unknown[]
  page: (after: number) => Promise<FileRow[]>
  empty: string
  finding?: boolean
  /** The job whose decisions these are: each name leads to why it was decided so. */
  job?: string | undefined
}

const PAGE = 200

/** What a run did, a preview would do, or an audit found, file by file; more as it is asked for. */
export function FilesTable({ of, page, empty, finding = false, job }: Props) {
  const query = useInfiniteQuery({
    queryKey: ['files', ...of],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => page(pageParam),
    getNextPageParam: (last) => (last.length === PAGE ? last[last.length - 1]?.id : undefined),
  })
  const said = (row: FileRow) =>
    finding
      ? row.message
      : row.error
        ? `${row.error}: ${row.message}`
        : [row.message, row.proof].filter(Boolean).join(' · ')
  return (
    <Loaded query={query}>
      {(data) => {
        const rows = data.pages.flat()
        if (!rows.length) return <Empty image={Empty.PRESENTED_IMAGE_SIMPLE} description={empty} />
        return (
          <>
            <DataTable<FileRow>
              rowKey="id"
              rows={rows}
              card={(row) => <FileCard row={row} finding={finding} said={said(row)} job={job} />}
              columns={[
                {
                  title: 'File',
                  width: '42%',
                  render: (_, row) => <FileName row={row} job={job} />,
                },
                {
                  title: finding ? 'Finding' : 'Decision',
                  width: 200,
                  render: (_, row) =>
                    finding
                      ? REASONS[row.reason]
                      : `${row.decision}: ${REASONS[row.reason] ?? row.reason}`,
                },
                {
                  title: 'Size',
                  width: 100,
                  align: 'right',
                  render: (_, row) => <Bytes n={row.bytes} />,
                },
                { title: finding ? '' : 'Proof or problem', render: (_, row) => said(row) },
              ]}
            />
            <More of={query} />
          </>
        )
      }}
    </Loaded>
  )
}

function FileName({ row, job }: { row: FileRow; job: string | undefined }) {
  const name = (
    <Typography.Text code style={{ overflowWrap: 'anywhere', color: 'inherit' }}>
      {row.key}
    </Typography.Text>
  )
  if (!job) return name
  const to = `/jobs/${job}/explain?key=${encodeURIComponent(row.key)}`
  return (
    <Link to={to} title="Why this file?">
      {name}
    </Link>
  )
}

interface CardProps {
  row: FileRow
  finding: boolean
  said: string
  job: string | undefined
}

function FileCard({ row, finding, said, job }: CardProps) {
  return (
    <Flex vertical style={{ padding: '8px 0', borderBottom: '1px solid rgba(128,128,128,.25)' }}>
      <FileName row={row} job={job} />
      <Typography.Text type="secondary">
        {finding ? REASONS[row.reason] : `${row.decision}: ${REASONS[row.reason] ?? row.reason}`} ·{' '}
        <Bytes n={row.bytes} />
      </Typography.Text>
      <span>{said}</span>
    </Flex>
  )
}
