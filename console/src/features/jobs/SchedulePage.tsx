import { useQuery } from '@tanstack/react-query'
import { Empty, Flex, Segmented, theme, Tooltip, Typography } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import type { Due } from '../../api/client'
import { scheduleQuery } from '../../api/jobs'
import { useNow } from '../../hooks/live'
import { exact } from '../../lib/words'
import { UNDERLINED } from '../../parts/layout'
import { Ago, Loaded, PageHead } from '../../parts/parts'
import { CalendarAddress } from './CalendarAddress'
import { Triggers } from './Triggers'

const DAY = 86_400_000

/** All that starts by itself: a lane a job, the days ahead from left to right. */
export default function SchedulePage() {
  const [days, setDays] = useState(7)
  const query = useQuery({ ...scheduleQuery(days), refetchInterval: 60_000 })
  return (
    <>
      <PageHead title="Schedule">
        <Segmented
          aria-label="How far ahead"
          value={days}
          onChange={setDays}
          options={[
            { value: 1, label: 'A day' },
            { value: 7, label: 'A week' },
            { value: 31, label: 'A month' },
          ]}
        />
        <CalendarAddress />
      </PageHead>
      <Loaded query={query}>
        {(lines) =>
          lines.length ? (
            <Lanes lines={lines} days={days} />
          ) : (
            <Empty
              image={Empty.PRESENTED_IMAGE_SIMPLE}
              description="No job starts by the clock. Give one a schedule, such as weekdays 05:30, in its form."
            />
          )
        }
      </Loaded>
      <Triggers />
    </>
  )
}

function Lanes({ lines, days }: { lines: Due[]; days: number }) {
  const now = useNow(60_000)
  return (
    <Flex vertical gap={14}>
      <Ruler days={days} now={now} />
      {lines.map((line) => (
        <div key={line.job}>
          <Flex justify="space-between" gap={8} wrap>
            <span>
              <Link to={`/jobs/${line.job}`} style={UNDERLINED}>
                {line.job}
              </Link>{' '}
              <Typography.Text type="secondary">{line.when}</Typography.Text>
            </span>
            <span>
              {line.is_on ? (
                <>
                  next: <Ago at={line.next_due} />
                </>
              ) : (
                '○ off'
              )}
            </span>
          </Flex>
          <Lane line={line} days={days} now={now} />
        </div>
      ))}
    </Flex>
  )
}

/** Midnights, in UTC, above all lanes. */
function Ruler({ days, now }: { days: number; now: number }) {
  const { token } = theme.useToken()
  const first = Math.ceil(now / DAY) * DAY
  const step = days > 7 ? 7 : 1
  const midnights = Array.from({ length: Math.ceil(days / step) }, (_, n) => first + n * step * DAY)
  const shown = days > 1 ? midnights : [first]
  return (
    <div style={{ position: 'relative', height: 20, color: token.colorTextSecondary }}>
      <span style={{ position: 'absolute', left: 0 }}>now</span>
      {shown.map((at) => {
        const left = ((at - now) / (days * DAY)) * 100
        return left > 6 && left < 94 ? (
          <span key={at} style={{ position: 'absolute', left: `${left}%`, whiteSpace: 'nowrap' }}>
            {new Date(at).toISOString().slice(5, 10)}
          </span>
        ) : null
      })}
    </div>
  )
}

function Lane({ line, days, now }: { line: Due; days: number; now: number }) {
  const { token } = theme.useToken()
  const told = line.due.length
    ? `${line.due.length} starts: ${exact(line.due[0])}${line.due.length > 1 ? ' and on' : ''}`
    : 'no start in these days'
  return (
    <div
      role="img"
      aria-label={`${line.job}: ${told}`}
      style={{
        position: 'relative',
        height: 18,
        background: token.colorFillQuaternary,
        borderBottom: `1px solid ${token.colorBorder}`,
      }}
    >
      {line.due.map((at) => (
        <Tooltip key={at} title={exact(at)}>
          <span
            style={{
              position: 'absolute',
              left: `${((Date.parse(at) - now) / (days * DAY)) * 100}%`,
              top: 2,
              width: 3,
              height: 14,
              background: token.colorPrimary,
            }}
          />
        </Tooltip>
      ))}
    </div>
  )
}
