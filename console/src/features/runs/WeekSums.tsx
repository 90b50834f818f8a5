import { theme } from 'antd'
import {
  Area,
  Bar,
  ComposedChart,
  Line,
  ResponsiveContainer,
  Tooltip,
  XAxis,
  YAxis,
} from 'recharts'
import type { Week } from '../../api/client'
import { ChartTip } from '../../parts/ChartTip'
import { count, size, span } from '../../lib/words'

interface Sums {
  week: string
  bytes: number
  runs: number
  usual: number | null
  range: [number, number] | null
}

const sums = (week: Week): Sums => ({
  week: week.since.slice(0, 10),
  bytes: week.bytes,
  runs: week.runs,
  usual: week.lasted ? week.lasted.usual : null,
  range: week.lasted ? [week.lasted.least, week.lasted.most] : null,
})

/** Bars of bytes, a line of how long runs usually took, its range shaded. */
export default function WeekSums({ weeks }: { weeks: Week[] }) {
  const { token } = theme.useToken()
  const axis = { stroke: token.colorTextSecondary, fontSize: 12 }
  const rows = weeks.map(sums)
  const most = Math.max(...rows.map((row) => row.bytes))
  return (
    <div
      role="img"
      aria-label={`Bytes carried in each of ${rows.length} weeks, at most ${size(most)}`}
    >
      <ResponsiveContainer width="100%" height={200}>
        <ComposedChart data={rows} margin={{ top: 6, right: 4, bottom: 0, left: 4 }}>
          <XAxis dataKey="week" tickFormatter={(week: string) => week.slice(5)} {...axis} />
          <YAxis yAxisId="bytes" tickFormatter={size} width={82} tickCount={4} {...axis} />
          <YAxis
            yAxisId="time"
            orientation="right"
            tickFormatter={span}
            width={60}
            tickCount={4}
            {...axis}
          />
          <Bar
            yAxisId="bytes"
            dataKey="bytes"
            fill={token.colorPrimary}
            isAnimationActive={false}
            minPointSize={2}
            maxBarSize={60}
          />
          <Area
            yAxisId="time"
            dataKey="range"
            stroke="none"
            fill={token.colorText}
            fillOpacity={0.14}
            isAnimationActive={false}
          />
          <Line
            yAxisId="time"
            dataKey="usual"
            stroke={token.colorText}
            strokeWidth={1.5}
            isAnimationActive={false}
          />
          <Tooltip
            cursor={{ fill: token.colorFillTertiary }}
            content={({ payload }) => <Told row={payload?.[0]?.payload as Sums | undefined} />}
          />
        </ComposedChart>
      </ResponsiveContainer>
      <div style={{ color: token.colorTextSecondary, fontSize: 12 }}>
        Bars: bytes carried. Line: how long half of the runs took at most; shaded: eight in ten.
      </div>
    </div>
  )
}

function Told({ row }: { row?: Sums | undefined }) {
  if (!row) return null
  return (
    <ChartTip>
      Week of {row.week}: {count(row.runs)} runs, {size(row.bytes)}
      {row.range && `, took ${span(row.range[0])} to ${span(row.range[1])}`}
    </ChartTip>
  )
}
