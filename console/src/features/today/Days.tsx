import { theme } from 'antd'
import { Bar, BarChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import { Link } from 'react-router'
import type { TodayPicture } from '../../api/client'
import { ChartTip } from '../../parts/ChartTip'
import { count, size } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { TablePicture } from '../../parts/TablePicture'
import { UNDERLINED } from '../../parts/layout'
import { Bytes } from '../../parts/parts'
import { runsIn } from '../../parts/runsIn'

/** Of a day in UTC. */
function wholeDay(day: string) {
  const since = new Date(`${day}T00:00:00Z`)
  const until = new Date(since.getTime() + 86_400_000)
  return { since: since.toISOString(), until: until.toISOString() }
}

type Day = TodayPicture['days'][number]

/** What was carried on each of the last 14 days. */
export default function Days({ days }: { days: Day[] }) {
  return <TablePicture picture={<Picture days={days} />} table={<Table days={days} />} />
}

function Picture({ days }: { days: Day[] }) {
  const { token } = theme.useToken()
  const axis = { stroke: token.colorTextSecondary, fontSize: 12 }
  const most = Math.max(...days.map((day) => day.bytes))
  return (
    <div role="img" aria-label={`Bytes carried a day over 14 days, at most ${size(most)}`}>
      <ResponsiveContainer width="100%" height={150}>
        <BarChart data={days} margin={{ top: 6, right: 4, bottom: 0, left: 4 }}>
          <XAxis dataKey="day" tickFormatter={(day: string) => day.slice(5)} {...axis} />
          <YAxis tickFormatter={size} width={82} tickCount={4} {...axis} />
          <Bar
            dataKey="bytes"
            fill={token.colorPrimary}
            isAnimationActive={false}
            minPointSize={2}
          />
          <Tooltip
            cursor={{ fill: token.colorFillTertiary }}
            content={({ payload }) => <Told day={payload?.[0]?.payload as Day | undefined} />}
          />
        </BarChart>
      </ResponsiveContainer>
    </div>
  )
}

function Told({ day }: { day?: Day | undefined }) {
  if (!day) return null
  return (
    <ChartTip>
      {day.day}: {count(day.files)} files, {size(day.bytes)} in {count(day.runs)} runs
      {day.problems > 0 && `, ▲ ${count(day.problems)} problems`}
    </ChartTip>
  )
}

function Table({ days }: { days: Day[] }) {
  return (
    <DataTable<Day>
      rowKey="day"
      rows={days.toReversed()}
      columns={[
        { title: 'Day (UTC)', dataIndex: 'day' },
        {
          title: 'Runs',
          align: 'right',
          render: (_, day) => (
            <Link to={runsIn(wholeDay(day.day), '')} style={UNDERLINED}>
              {count(day.runs)}
            </Link>
          ),
        },
        { title: 'Files', align: 'right', render: (_, day) => count(day.files) },
        { title: 'Bytes', align: 'right', render: (_, day) => <Bytes n={day.bytes} /> },
        {
          title: 'Problems',
          align: 'right',
          render: (_, day) => (day.problems ? `▲ ${count(day.problems)}` : ''),
        },
      ]}
    />
  )
}
