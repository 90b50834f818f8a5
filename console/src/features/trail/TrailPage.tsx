import { useInfiniteQuery } from '@tanstack/react-query'
import { Button, Empty, Flex, Form, Input, Typography } from 'antd'
import { useSearchParams } from 'react-router'
import { type TrailLine } from '../../api/client'
import { trailQuery } from '../../api/trail'
import { Loaded, PageHead } from '../../parts/parts'
import { Verify } from './Verify'
import { changesOf, otherFacts } from './facts'
import { exact } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'

const FIELDS = ['who', 'what', 'which', 'since', 'until'] as const
type Asked = Partial<Record<(typeof FIELDS)[number], string>>

/** Who did what, newest first; the filter is in the address, so that a link shows the same. */
export default function TrailPage() {
  const [at, setAt] = useSearchParams()
  const asked: Asked = Object.fromEntries(
    FIELDS.flatMap((f) => (at.get(f) ? [[f, at.get(f)]] : [])),
  )
  const query = useInfiniteQuery(trailQuery(asked))
  const filter = (given: Asked) =>
    setAt(Object.fromEntries(Object.entries(given).filter(([, v]) => v)) as Record<string, string>)
  return (
    <>
      <PageHead title="Trail">
        <Verify />
      </PageHead>
      <Form
        layout="inline"
        colon={false}
        requiredMark={false}
        key={at.toString()}
        initialValues={asked}
        onFinish={filter}
        style={{ marginBottom: 16, rowGap: 8 }}
      >
        <Form.Item label="Who" name="who">
          <Input allowClear style={{ width: 110 }} placeholder="wren" />
        </Form.Item>
        <Form.Item label="What" name="what">
          <Input allowClear style={{ width: 130 }} placeholder="job.changed" />
        </Form.Item>
        <Form.Item label="Which" name="which">
          <Input allowClear style={{ width: 150 }} placeholder="dawn-recordings" />
        </Form.Item>
        <Form.Item label="From" name="since">
          <Input type="date" style={{ width: 140 }} />
        </Form.Item>
        <Form.Item label="to" name="until">
          <Input type="date" style={{ width: 140 }} />
        </Form.Item>
        <Button htmlType="submit">Show</Button>
        {at.size > 0 && (
          <Button type="link" onClick={() => setAt({})}>
            Show all
          </Button>
        )}
      </Form>
      <Loaded query={query}>
        {(data) => (
          <>
            <Lines lines={data.pages.flat()} />
            {query.hasNextPage && (
              <Flex justify="center" style={{ marginTop: 12 }}>
                <Button
                  onClick={() => void query.fetchNextPage()}
                  loading={query.isFetchingNextPage}
                >
                  Older ones
                </Button>
              </Flex>
            )}
          </>
        )}
      </Loaded>
    </>
  )
}

function Lines({ lines }: { lines: TrailLine[] }) {
  if (!lines.length)
    return (
      <Empty
        image={Empty.PRESENTED_IMAGE_SIMPLE}
        description="Nothing was done that fits this. Show all, or widen the days."
      />
    )
  return (
    <DataTable<TrailLine>
      rowKey="id"
      rows={lines}
      scroll={{ x: 'max-content' }}
      card={(l) => (
        <div>
          {exact(l.at)} · {l.who} · {l.action} · {l.subject}
          <Facts line={l} />
        </div>
      )}
      columns={[
        {
          title: 'At',
          width: 190,
          render: (_, l) => (
            <span style={{ fontVariantNumeric: 'tabular-nums', whiteSpace: 'nowrap' }}>
              {exact(l.at)}
            </span>
          ),
        },
        { title: 'Who', dataIndex: 'who', width: 110 },
        { title: 'From', dataIndex: 'address', width: 110 },
        { title: 'What', dataIndex: 'action', width: 150 },
        {
          title: 'Which',
          width: 260,
          render: (_, l) => <span style={{ overflowWrap: 'anywhere' }}>{l.subject}</span>,
        },
        { title: 'Before and after', render: (_, l) => <Facts line={l} /> },
      ]}
    />
  )
}

function Facts({ line }: { line: TrailLine }) {
  const changes = changesOf(line.facts)
  return (
    <div style={{ maxWidth: 480, overflowWrap: 'anywhere' }}>
      {changes.map((c) => (
        <div key={c.field}>
          {c.field}:{' '}
          <Typography.Text type="secondary" delete={c.before !== 'none'}>
            {c.before}
          </Typography.Text>{' '}
          → {c.after}
        </div>
      ))}
      <Typography.Text type="secondary">{otherFacts(line.facts)}</Typography.Text>
    </div>
  )
}
