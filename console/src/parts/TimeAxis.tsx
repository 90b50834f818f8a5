import { theme, Tooltip } from 'antd'
import { Link } from 'react-router'
import type { Job } from '../api/client'
import { exact, MARKS } from '../lib/words'
import { useToneColour } from './parts'

const DAYS = 14

/** Fourteen days with a mark where each run ended; the same as words for who can't see it. */
export function TimeAxis({ marks, now }: { marks: Job['marks']; now: number }) {
  const { token } = theme.useToken()
  const toneColour = useToneColour()
  const at = (time: string) => 100 - ((now - Date.parse(time)) / (DAYS * 86_400_000)) * 100
  return (
    <div
      role="list"
      aria-label={`Runs of the last ${DAYS} days`}
      style={{
        position: 'relative',
        height: 22,
        minWidth: 150,
        borderBottom: `1px solid ${token.colorBorder}`,
      }}
    >
      {marks.map((mark) => (
        <Tooltip key={mark.id} title={`Run ${mark.id}: ${MARKS[mark.outcome]}, ${exact(mark.at)}`}>
          <Link
            role="listitem"
            to={`/runs/${mark.id}`}
            aria-label={`Run ${mark.id}: ${MARKS[mark.outcome]}, ${exact(mark.at)}`}
            style={{
              position: 'absolute',
              left: `calc(${Math.max(0, Math.min(at(mark.at), 100))}% - 14px)`,
              color: toneColour(mark.outcome),
            }}
          >
            {MARKS[mark.outcome]?.[0]}
          </Link>
        </Tooltip>
      ))}
    </div>
  )
}
