import { Tooltip } from 'antd'
import { Link } from 'react-router'
import type { JobLine } from '../api/client'
import { exact, MARKS, span } from '../lib/words'
import { useToneColour } from './parts'

/** The latest runs of a job, oldest first: a mark each, which opens its run. */
export function RunMarks({ runs }: { runs: JobLine['recent'] }) {
  const toneColour = useToneColour()
  return (
    <span role="list" aria-label="Latest runs" style={{ whiteSpace: 'nowrap' }}>
      {runs.map((run) => {
        const word = run.outcome || run.state
        const took = run.seconds == null ? '' : `, took ${span(run.seconds)}`
        const told = `Run ${run.id}: ${MARKS[word]}, ${exact(run.ended_at ?? run.queued_at)}${took}`
        return (
          <Tooltip key={run.id} title={told}>
            <Link
              role="listitem"
              to={`/runs/${run.id}`}
              aria-label={told}
              style={{ color: toneColour(word), padding: '4px 1px' }}
            >
              {MARKS[word]?.[0]}
            </Link>
          </Tooltip>
        )
      })}
    </span>
  )
}
