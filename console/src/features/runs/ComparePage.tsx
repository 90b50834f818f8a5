import { useQuery } from '@tanstack/react-query'
import { Card, Empty, Flex, InputNumber } from 'antd'
import { Link, useParams, useSearchParams } from 'react-router'
import type { Compared, FileRow } from '../../api/client'
import { compareQuery } from '../../api/runs'
import { count } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { Bytes, Loaded, PageHead } from '../../parts/parts'

const PARTS = [
  ['new_problems', (told: Compared) => `▲ Problems that run ${told.other} didn't have`],
  ['gone_problems', (told: Compared) => `✓ Problems of run ${told.other} that are gone`],
  ['carried_here', (told: Compared) => `Carried in run ${told.run}, and not in ${told.other}`],
  ['carried_there', (told: Compared) => `Carried in run ${told.other}, and not in ${told.run}`],
] as const

const MOST = 10_000
const upTo = (n: number) => (n > MOST ? `${count(MOST)}+` : count(n))

/** Two runs: what one carried and the other didn't, and which problems are new. */
export default function ComparePage() {
  const number = Number(useParams().id)
  const [asked, setAsked] = useSearchParams()
  const other = Number(asked.get('other')) || undefined
  const query = useQuery(compareQuery(number, other))
  return (
    <>
      <PageHead title={`Run ${number}, compared`}>
        <Link to={`/runs/${number}`}>Run {number}</Link>
        <label>
          with run{' '}
          <InputNumber
            min={1}
            value={other ?? query.data?.other ?? null}
            onPressEnter={(event) => setAsked({ other: event.currentTarget.value })}
          />
        </label>
      </PageHead>
      <Loaded query={query}>
        {(told) => (
          <Flex vertical gap={16}>
            {PARTS.map(([part, title]) => (
              <Card key={part} size="small" title={`${title(told)}: ${upTo(told[part].objects)}`}>
                <Files rows={told[part].files} />
              </Card>
            ))}
          </Flex>
        )}
      </Loaded>
    </>
  )
}

function Files({ rows }: { rows: FileRow[] }) {
  if (!rows.length) return <Empty image={Empty.PRESENTED_IMAGE_SIMPLE} description="None." />
  return (
    <DataTable<FileRow>
      rowKey="id"
      rows={rows}
      columns={[
        {
          title: 'File',
          render: (_, row) => <code style={{ overflowWrap: 'anywhere' }}>{row.key}</code>,
        },
        { title: 'Size', width: 110, align: 'right', render: (_, row) => <Bytes n={row.bytes} /> },
        { title: 'Problem', render: (_, row) => row.error && `${row.error}: ${row.message}` },
      ]}
    />
  )
}
