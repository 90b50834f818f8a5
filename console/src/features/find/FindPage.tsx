import { useQuery } from '@tanstack/react-query'
import { Empty, Flex, Input, Typography } from 'antd'
import { Link, useSearchParams } from 'react-router'
import type { FoundPlace } from '../../api/client'
import { findQuery } from '../../api/trail'
import { count, REASONS } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { UNDERLINED } from '../../parts/layout'
import { Ago, At, Bytes, FromTo, JobName, Loaded, PageHead } from '../../parts/parts'

/** Where is this file, where did it come from? */
export default function FindPage() {
  const [asked, setAsked] = useSearchParams()
  const name = asked.get('name') ?? ''
  return (
    <>
      <PageHead title="Find a file" />
      <Input.Search
        aria-label="Name"
        autoFocus
        allowClear
        enterButton="Find"
        placeholder="Part of its name; * stands for anything"
        defaultValue={name}
        key={name}
        style={{ maxWidth: 560, marginBottom: 16 }}
        onSearch={(v) => setAsked(v.trim() ? { name: v.trim() } : {})}
      />
      {name ? (
        <Found name={name} />
      ) : (
        <Typography.Paragraph type="secondary">
          Every place where a run has put, replaced or removed a file of that name, and every run
          that touched it.
        </Typography.Paragraph>
      )}
    </>
  )
}

type Place = FoundPlace & { ways: (FoundPlace['runs'][number] & { from: string; to: string })[] }

function Found({ name }: { name: string }) {
  const query = useQuery(findQuery(name))
  return (
    <Loaded query={query}>
      {(places) => {
        const rows = filesOf(places)
        return rows.length === 0 ? (
          <Empty
            image={Empty.PRESENTED_IMAGE_SIMPLE}
            description={`No run has touched a file with ${name} in its name.`}
          />
        ) : (
          <>
            <Typography.Paragraph type="secondary">
              {count(rows.length)} {rows.length === 1 ? 'file' : 'files'}, the newest first. A row
              opens to every run that touched it.
            </Typography.Paragraph>
            <Files rows={rows} />
          </>
        )
      }}
    </Loaded>
  )
}

/** One for each name: its ways between places together, the newest first. */
function filesOf(places: FoundPlace[]): Place[] {
  const found = new Map<string, Place>()
  for (const place of places) {
    const ways = place.runs.map((run) => ({ ...run, from: place.from, to: place.to }))
    const known = found.get(place.key_id)
    if (known) known.ways.push(...ways)
    else found.set(place.key_id, { ...place, ways })
  }
  const rows = [...found.values()]
  for (const row of rows) row.ways.sort((a, b) => b.run - a.run)
  return rows.toSorted((a, b) => (b.ways[0]?.run ?? 0) - (a.ways[0]?.run ?? 0))
}

const said = (way: Place['ways'][number]) =>
  way.error
    ? `▲ ${way.error}`
    : `${way.done ? '' : 'not done, '}${way.decision}: ${REASONS[way.reason] ?? way.reason}`

function Files({ rows }: { rows: Place[] }) {
  const last = (row: Place) => row.ways[0]
  return (
    <DataTable<Place>
      rowKey="key_id"
      rows={rows}
      expandable={{ expandedRowRender: (row) => <Ways row={row} /> }}
      card={(row) => (
        <details>
          <summary style={{ overflowWrap: 'anywhere', minHeight: 44 }}>
            {row.key} · <Bytes n={row.bytes} />
          </summary>
          <Ways row={row} />
        </details>
      )}
      columns={[
        {
          title: 'File',
          width: '34%',
          render: (_, row) => (
            <Typography.Text code style={{ overflowWrap: 'anywhere' }}>
              {row.key}
            </Typography.Text>
          ),
        },
        {
          title: 'Lies at',
          render: (_, row) =>
            [...new Set(row.ways.map((way) => way.to))].map((to) => (
              <div key={to}>
                <At location={to} />
              </div>
            )),
        },
        { title: 'Size', width: 90, align: 'right', render: (_, row) => <Bytes n={row.bytes} /> },
        {
          title: 'Last touched',
          width: 230,
          render: (_, row) => {
            const way = last(row)
            return (
              way && (
                <>
                  <Link to={`/runs/${way.run}`} style={UNDERLINED}>
                    run {way.run}
                  </Link>{' '}
                  <Ago at={way.at} />
                  <br />
                  {said(way)}
                </>
              )
            )
          },
        },
      ]}
    />
  )
}

/** Where this file came from: every run that touched it. */
function Ways({ row }: { row: Place }) {
  return (
    <>
      {row.ways.map((way) => (
        <Flex key={`${way.run} ${way.to}`} gap={12} wrap style={{ padding: '4px 0' }}>
          <Link to={`/runs/${way.run}`}>run {way.run}</Link>
          <JobName job={way.job} />
          <span style={{ minWidth: 150 }}>{said(way)}</span>
          <FromTo from={way.from} to={way.to} />
          {way.checksum && (
            <Typography.Text type="secondary" code>
              {way.checksum}
            </Typography.Text>
          )}
          <Typography.Text type="secondary">{way.proof}</Typography.Text>
          <Ago at={way.at} />
        </Flex>
      ))}
    </>
  )
}
