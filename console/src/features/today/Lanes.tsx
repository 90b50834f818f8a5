import { Grid, theme, Tooltip, Typography } from 'antd'
import { Link } from 'react-router'
import type { TodayPicture } from '../../api/client'
import { exact, MARKS } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { TablePicture } from '../../parts/TablePicture'
import { UNDERLINED } from '../../parts/layout'
import { Ago, Mark, useToneColour } from '../../parts/parts'
import { inZone, zone } from '../../lib/zone'

const LEAST_WIDTH = 1.2 // percent: a run of a second can be seen and pointed at

type Lane = TodayPicture['lanes'][number]
type Bar = Lane['runs'][number]

/** A lane a job: each run a bar of its length with its mark; now, and what is due beyond it. */
export function Lanes({ told }: { told: TodayPicture }) {
  const isWide = Grid.useBreakpoint().lg
  if (!told.lanes.length) return null
  if (!isWide) return <Table lanes={told.lanes} />
  return <TablePicture picture={<Picture told={told} />} table={<Table lanes={told.lanes} />} />
}

function Picture({ told }: { told: TodayPicture }) {
  const { token } = theme.useToken()
  const since = Date.parse(told.since)
  const whole = Date.parse(told.until) - since
  const at = (moment: string) => ((Date.parse(moment) - since) / whole) * 100
  const hours = hoursBetween(told.since, told.until)
  const line = { borderInlineStart: `1px solid ${token.colorBorderSecondary}` }
  const axis = { color: token.colorTextSecondary, fontSize: 12 }
  return (
    <div>
      {told.lanes.map((lane) => (
        <div key={lane.job} style={{ display: 'flex', alignItems: 'center', height: 30 }}>
          <div style={{ width: 150, flex: 'none', overflow: 'hidden', textOverflow: 'ellipsis' }}>
            <Link to={`/jobs/${lane.job}`} style={UNDERLINED}>
              {lane.job}
            </Link>
          </div>
          <div
            style={{
              position: 'relative',
              flex: 1,
              height: 30,
              borderBottom: `1px solid ${token.colorBorderSecondary}`,
            }}
          >
            {hours.map((hour) => (
              <div
                key={hour}
                style={{ position: 'absolute', top: 0, bottom: 0, left: `${at(hour)}%`, ...line }}
              />
            ))}
            <div
              style={{
                position: 'absolute',
                top: 0,
                bottom: 0,
                left: `${at(told.now)}%`,
                borderInlineStart: `2px solid ${token.colorPrimary}`,
              }}
            />
            {lane.runs.map((run) => (
              <RunBar key={run.id} run={run} told={told} at={at} />
            ))}
            {lane.due.map((due) => (
              <Tooltip key={due} title={`Due ${exact(due)}`}>
                <span
                  style={{
                    position: 'absolute',
                    left: `${at(due)}%`,
                    top: 4,
                    color: token.colorTextSecondary,
                  }}
                >
                  ◌
                </span>
              </Tooltip>
            ))}
          </div>
        </div>
      ))}
      <div style={{ position: 'relative', height: 18, marginInlineStart: 150, ...axis }}>
        {hours
          .filter((hour) => at(hour) < 96)
          .map((hour) => (
            <span key={hour} style={{ position: 'absolute', left: `${at(hour)}%` }}>
              {inZone(hour, zone.now()).slice(11, 16)}
            </span>
          ))}
      </div>
      {told.more_lanes > 0 && (
        <Typography.Text type="secondary">
          And {told.more_lanes} more jobs: <Link to="/jobs">all jobs</Link>
        </Typography.Text>
      )}
    </div>
  )
}

interface BarProps {
  run: Bar
  told: TodayPicture
  at: (moment: string) => number
}

function RunBar({ run, told, at }: BarProps) {
  const toneColour = useToneColour()
  const { token } = theme.useToken()
  const begin = Math.max(at(run.started_at), 0)
  const width = Math.max(at(run.ended_at ?? told.now) - begin, LEAST_WIDTH)
  const mark = MARKS[run.mark] ?? run.mark
  const words = `${mark}: run ${run.id}, ${exact(run.started_at)} to ${run.ended_at ? exact(run.ended_at) : 'now'}`
  return (
    <Tooltip title={words} trigger={['hover', 'focus']}>
      <Link
        to={`/runs/${run.id}`}
        aria-label={words}
        style={{
          position: 'absolute',
          left: `${begin}%`,
          width: `${width}%`,
          minWidth: 18,
          overflow: 'hidden',
          textAlign: 'center',
          fontSize: 12,
          lineHeight: '20px',
          color: token.colorBgContainer,
          top: 5,
          height: 20,
          borderRadius: 3,
          background: toneColour(run.mark),
        }}
      >
        {mark.slice(0, 1)}
      </Link>
    </Tooltip>
  )
}

function Table({ lanes }: { lanes: Lane[] }) {
  const rows = lanes.flatMap((lane) => lane.runs).toReversed()
  return (
    <DataTable<Bar>
      rowKey="id"
      rows={rows}
      card={(run) => (
        <div>
          <Mark word={run.mark} /> {run.job},{' '}
          <Link to={`/runs/${run.id}`} style={UNDERLINED}>
            run {run.id}
          </Link>{' '}
          <Ago at={run.ended_at} never="goes on" />
        </div>
      )}
      columns={[
        { title: 'Run', render: (_, run) => <Link to={`/runs/${run.id}`}>Run {run.id}</Link> },
        { title: 'Job', dataIndex: 'job' },
        { title: 'Came to', render: (_, run) => <Mark word={run.mark} /> },
        { title: 'Began', render: (_, run) => exact(run.started_at) },
        { title: 'Ended', render: (_, run) => <Ago at={run.ended_at} never="goes on" /> },
      ]}
    />
  )
}

/** Every fourth whole hour. */
function hoursBetween(since: string, until: string): string[] {
  const step = 4 * 3_600_000
  const first = Math.ceil(Date.parse(since) / step) * step
  const found = []
  for (let at = first; at < Date.parse(until); at += step) found.push(new Date(at).toISOString())
  return found
}
