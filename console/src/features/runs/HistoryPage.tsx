import { useQuery } from '@tanstack/react-query'
import { Card, Empty, Flex, Grid, Skeleton, theme, Tooltip } from 'antd'
import { lazy, Suspense } from 'react'
import { Link, useSearchParams } from 'react-router'
import type { Week } from '../../api/client'
import { weeksQuery } from '../../api/today'
import { count, exact, MARKS, span } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { TablePicture } from '../../parts/TablePicture'
import { UNDERLINED } from '../../parts/layout'
import { runsIn } from '../../parts/runsIn'
import { Bytes, Loaded, PageHead, useToneColour } from '../../parts/parts'

const WeekSums = lazy(() => import('./WeekSums'))
const DAYS = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']
const LEAST_WIDTH = 0.6 // percent

/** What runs came to over weeks: of one job (`?job=`), or of all. */
export default function HistoryPage() {
  const [asked] = useSearchParams()
  const job = asked.get('job') ?? ''
  const query = useQuery(weeksQuery(job))
  return (
    <>
      <PageHead title={job ? `History of ${job}` : 'History'}>
        {job && <Link to={`/jobs/${job}`}>The job</Link>}
      </PageHead>
      <Loaded query={query}>
        {(weeks) =>
          weeks.some((week) => week.runs) ? <Weeks weeks={weeks} job={job} /> : <None />
        }
      </Loaded>
    </>
  )
}

const None = () => (
  <Empty
    image={Empty.PRESENTED_IMAGE_SIMPLE}
    description="No run has ended in these weeks. Start a job, and come back."
  />
)

interface Props {
  weeks: Week[]
  job: string
}

function Weeks({ weeks, job }: Props) {
  const isWide = Grid.useBreakpoint().lg
  const table = <Table weeks={weeks} job={job} />
  return (
    <Flex vertical gap={16}>
      <Card size="small" title="When runs ended, a line a week">
        {isWide ? (
          <TablePicture picture={<Picture weeks={weeks} job={job} />} table={table} />
        ) : (
          table
        )}
      </Card>
      <Card size="small" title="Bytes carried, and how long runs took">
        <TablePicture
          picture={
            <Suspense fallback={<Skeleton active={false} paragraph={{ rows: 4 }} />}>
              <WeekSums weeks={weeks.toReversed()} />
            </Suspense>
          }
          table={table}
        />
      </Card>
    </Flex>
  )
}

function Picture({ weeks, job }: Props) {
  const { token } = theme.useToken()
  const line = `1px solid ${token.colorBorderSecondary}`
  const soft = { color: token.colorTextSecondary, fontSize: 12 }
  return (
    <div>
      <Flex style={{ marginInlineStart: 100, ...soft }}>
        {DAYS.map((day) => (
          <div key={day} style={{ flex: 1, borderInlineStart: line, paddingInlineStart: 4 }}>
            {day}
          </div>
        ))}
      </Flex>
      {weeks.map((week) => (
        <Flex key={week.since} align="center" style={{ height: 28 }}>
          <Link to={runsIn(week, job)} style={{ width: 100, ...UNDERLINED }}>
            {week.since.slice(0, 10)}
          </Link>
          <div style={{ position: 'relative', flex: 1, height: 28, borderBottom: line }}>
            {DAYS.map((day, n) => (
              <div
                key={day}
                style={{
                  position: 'absolute',
                  top: 0,
                  bottom: 0,
                  left: `${(n / 7) * 100}%`,
                  borderInlineStart: line,
                }}
              />
            ))}
            {week.marks.map((mark) => (
              <WeekMark key={mark.since} week={week} mark={mark} job={job} />
            ))}
          </div>
        </Flex>
      ))}
      <div style={soft}>A mark: the worst that runs came to within three hours. Times are UTC.</div>
    </div>
  )
}

interface MarkProps {
  week: Week
  mark: Week['marks'][number]
  job: string
}

function WeekMark({ week, mark, job }: MarkProps) {
  const toneColour = useToneColour()
  const { token } = theme.useToken()
  const since = Date.parse(week.since)
  const whole = Date.parse(week.until) - since
  const share = (moment: string) => ((Date.parse(moment) - since) / whole) * 100
  const words = `${MARKS[mark.mark] ?? mark.mark}: ${count(mark.runs)} ${mark.runs === 1 ? 'run' : 'runs'} in three hours from ${exact(mark.since)}`
  return (
    <Tooltip title={words} trigger={['hover', 'focus']}>
      <Link
        to={mark.runs === 1 ? `/runs/${mark.run}` : runsIn(mark, job)}
        aria-label={words}
        style={{
          position: 'absolute',
          left: `${share(mark.since)}%`,
          width: `${Math.max(share(mark.until) - share(mark.since), LEAST_WIDTH)}%`,
          top: 4,
          height: 20,
          lineHeight: '20px',
          fontSize: 12,
          textAlign: 'center',
          borderRadius: 3,
          color: token.colorBgContainer,
          background: toneColour(mark.mark),
        }}
      >
        {(MARKS[mark.mark] ?? '?').slice(0, 1)}
      </Link>
    </Tooltip>
  )
}

const cameTo = (week: Week) =>
  Object.entries(week.outcomes)
    .map(([outcome, n]) => `${count(n)} ${MARKS[outcome] ?? outcome}`)
    .join(', ')

function Table({ weeks, job }: Props) {
  const runs = (week: Week) => (
    <Link to={runsIn(week, job)} style={UNDERLINED}>
      {count(week.runs)}
    </Link>
  )
  return (
    <DataTable<Week>
      rowKey="since"
      rows={weeks}
      card={(week) => (
        <div>
          {week.since.slice(0, 10)}: {runs(week)} runs, <Bytes n={week.bytes} />
          <div>{cameTo(week)}</div>
        </div>
      )}
      columns={[
        { title: 'Week of (UTC)', width: 130, render: (_, week) => week.since.slice(0, 10) },
        { title: 'Runs', width: 80, align: 'right', render: (_, week) => runs(week) },
        { title: 'Came to', render: (_, week) => cameTo(week) },
        { title: 'Files', width: 90, align: 'right', render: (_, week) => count(week.files) },
        {
          title: 'Bytes',
          width: 100,
          align: 'right',
          render: (_, week) => <Bytes n={week.bytes} />,
        },
        {
          title: 'Problems',
          width: 90,
          align: 'right',
          render: (_, week) => (week.problems ? `▲ ${count(week.problems)}` : ''),
        },
        {
          title: 'Took, usually',
          width: 210,
          render: (_, week) =>
            week.lasted &&
            `${span(week.lasted.usual)} (${span(week.lasted.least)} to ${span(week.lasted.most)})`,
        },
      ]}
    />
  )
}
