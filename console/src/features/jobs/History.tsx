import { useQuery } from '@tanstack/react-query'
import { Card, theme } from 'antd'
import {
  Bar,
  Cell,
  ComposedChart,
  Line,
  ReferenceArea,
  ResponsiveContainer,
  Tooltip,
  XAxis,
  YAxis,
} from 'recharts'
import { Link } from 'react-router'
import type { Run } from '../../api/client'
import { runsQuery } from '../../api/runs'
import { count, exact, MARKS, size, span } from '../../lib/words'
import { Ago, Bytes, Mark, useToneColour } from '../../parts/parts'
import { ChartTip } from '../../parts/ChartTip'
import { DataTable } from '../../parts/DataTable'
import { TablePicture } from '../../parts/TablePicture'
import { usualRange } from './usual'

const SHOWN = 60
const LEAST = 3 // fewer runs have no history

interface Bygone {
  id: number
  at: string
  outcome: string
  files: number
  bytes: number
  seconds: number
}

/** How long a job's runs took and how much they carried, over the last of them. */
export function History({ job }: { job: string }) {
  const runs = useQuery({ ...runsQuery({ job, limit: SHOWN }), refetchInterval: 15_000 })
  const rows = (runs.data ?? []).filter((run) => run.started_at && run.ended_at).map(bygone)
  if (rows.length < LEAST) return null
  return (
    <Card
      size="small"
      title="History"
      extra={<Link to={`/history?job=${job}`}>Week by week</Link>}
      style={{ marginBottom: 16 }}
    >
      <TablePicture picture={<Picture rows={rows.toReversed()} />} table={<Table rows={rows} />} />
    </Card>
  )
}

function bygone(run: Run): Bygone {
  const { copy, replace } = run.totals
  return {
    id: run.id,
    at: run.ended_at ?? run.queued_at,
    outcome: run.outcome,
    files: copy.objects + replace.objects,
    bytes: copy.bytes + replace.bytes,
    seconds: (Date.parse(run.ended_at ?? '') - Date.parse(run.started_at ?? '')) / 1000,
  }
}

function Picture({ rows }: { rows: Bygone[] }) {
  const { token } = theme.useToken()
  const toneColour = useToneColour()
  const usual = usualRange(rows.map((row) => row.seconds))
  const axis = { stroke: token.colorTextSecondary, fontSize: 12 }
  const told = `${count(rows.length)} runs: bytes as bars, seconds as a line; usually ${span(usual[0])} to ${span(usual[1])}`
  return (
    <div role="img" aria-label={told}>
      <ResponsiveContainer width="100%" height={190}>
        <ComposedChart data={rows} margin={{ top: 6, right: 4, bottom: 0, left: 4 }}>
          <XAxis
            dataKey="id"
            tickFormatter={(id: number) => exact(rows.find((r) => r.id === id)?.at).slice(5, 10)}
            minTickGap={40}
            {...axis}
          />
          <YAxis yAxisId="bytes" tickFormatter={size} width={82} tickCount={4} {...axis} />
          <YAxis
            yAxisId="time"
            orientation="right"
            tickFormatter={span}
            width={54}
            tickCount={4}
            {...axis}
          />
          <ReferenceArea
            yAxisId="time"
            y1={usual[0]}
            y2={usual[1]}
            fill={token.colorPrimary}
            fillOpacity={0.12}
          />
          <Bar yAxisId="bytes" dataKey="bytes" isAnimationActive={false} minPointSize={2}>
            {rows.map((row) => (
              <Cell
                key={row.id}
                fill={row.outcome === 'clean' ? token.colorPrimary : toneColour(row.outcome)}
              />
            ))}
          </Bar>
          <Line
            yAxisId="time"
            dataKey="seconds"
            stroke={token.colorText}
            strokeWidth={1.5}
            dot={false}
            isAnimationActive={false}
          />
          <Tooltip
            content={({ payload }) => <Told row={payload?.[0]?.payload as Bygone | undefined} />}
          />
        </ComposedChart>
      </ResponsiveContainer>
      <div style={{ color: token.colorTextSecondary, fontSize: 12 }}>
        Bars: bytes carried. Line: how long it took; shaded: as usual.
      </div>
    </div>
  )
}

function Told({ row }: { row?: Bygone }) {
  if (!row) return null
  return (
    <ChartTip>
      Run {row.id}, {MARKS[row.outcome]}
      <br />
      {exact(row.at)}
      <br />
      {count(row.files)} files, {size(row.bytes)} in {span(row.seconds)}
    </ChartTip>
  )
}

function Table({ rows }: { rows: Bygone[] }) {
  return (
    <DataTable<Bygone>
      rowKey="id"
      rows={rows}
      pagination={{ pageSize: 10, hideOnSinglePage: true }}
      columns={[
        { title: 'Run', dataIndex: 'id' },
        { title: 'Ended', render: (_, row) => <Ago at={row.at} /> },
        { title: 'Outcome', render: (_, row) => <Mark word={row.outcome} /> },
        { title: 'Files', align: 'right', render: (_, row) => count(row.files) },
        { title: 'Bytes', align: 'right', render: (_, row) => <Bytes n={row.bytes} /> },
        { title: 'Took', align: 'right', render: (_, row) => span(row.seconds) },
      ]}
    />
  )
}
