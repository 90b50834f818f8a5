import { Card, theme } from 'antd'
import { Area, AreaChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import { count, size, span } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { TablePicture } from '../../parts/TablePicture'
import { ratesOf, type Point, type Rate } from './rates'

const LEAST = 4 // fewer points show no course

/** How fast a run carried, from its beginning on. */
export function RatePicture({ course }: { course: Point[] }) {
  const rates = ratesOf(course)
  if (rates.length < LEAST || !rates.some((rate) => rate.bytes)) return null
  return (
    <Card size="small" title="How fast" style={{ marginBottom: 16 }}>
      <TablePicture picture={<Picture rates={rates} />} table={<Table rates={rates} />} />
    </Card>
  )
}

function Picture({ rates }: { rates: Rate[] }) {
  const { token } = theme.useToken()
  const axis = { stroke: token.colorTextSecondary, fontSize: 12 }
  const most = Math.max(...rates.map((rate) => rate.bytes))
  return (
    <div role="img" aria-label={`Bytes a second over the run; ${size(most)} a second at most`}>
      <ResponsiveContainer width="100%" height={130}>
        <AreaChart data={rates} margin={{ top: 6, right: 8, bottom: 0, left: 4 }}>
          <XAxis
            dataKey="at"
            type="number"
            tickFormatter={(s: number) => (s < 10 ? `${s.toFixed(1)} s` : span(s))}
            minTickGap={50}
            {...axis}
          />
          <YAxis tickFormatter={(n: number) => `${size(n)}/s`} width={98} tickCount={3} {...axis} />
          <Area
            dataKey="bytes"
            type="stepBefore"
            stroke={token.colorPrimary}
            fill={token.colorPrimary}
            fillOpacity={0.25}
            isAnimationActive={false}
          />
          <Tooltip
            formatter={(n) => [`${size(Number(n))}/s`, 'carried']}
            labelFormatter={(at) => `after ${span(Number(at))}`}
            contentStyle={{ background: token.colorBgElevated }}
          />
        </AreaChart>
      </ResponsiveContainer>
    </div>
  )
}

function Table({ rates }: { rates: Rate[] }) {
  return (
    <DataTable<Rate>
      rowKey="at"
      rows={rates}
      pagination={{ pageSize: 10, hideOnSinglePage: true }}
      columns={[
        { title: 'After', render: (_, rate) => span(rate.at) },
        { title: 'Bytes a second', align: 'right', render: (_, rate) => size(rate.bytes) },
        { title: 'Files a second', align: 'right', render: (_, rate) => count(rate.objects) },
      ]}
    />
  )
}
