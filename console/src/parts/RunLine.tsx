import { Flex, Typography } from 'antd'
import { Link } from 'react-router'
import type { Run } from '../api/client'
import { count, jobWords, size } from '../lib/words'
import { UNDERLINED } from './layout'
import { Ago, FromTo, Mark } from './parts'

const ACTED = {
  copy: 'copied',
  replace: 'replaced',
  remove: 'removed',
  clear: 'cleared at the source',
} as const

/** What a run acted on: `12 copied, 3 removed · 4.1 MiB`. */
export const did = (run: Run): string => {
  const told = (Object.keys(ACTED) as (keyof typeof ACTED)[])
    .filter((d) => run.totals[d].objects)
    .map((d) => `${count(run.totals[d].objects)} ${ACTED[d]}`)
  const bytes = run.totals.copy.bytes + run.totals.replace.bytes
  return told.length ? told.join(', ') + (bytes ? ` · ${size(bytes)}` : '') : 'acted on nothing'
}

/** One run as a line of a list, for any width. */
export function RunLine({ run, named = true }: { run: Run; named?: boolean }) {
  const leg = run.legs[0]
  return (
    <Flex justify="space-between" gap={4} wrap style={{ padding: '8px 0' }}>
      <Flex vertical gap={2} style={{ minWidth: 0 }}>
        <span>
          <Mark word={run.outcome || run.state} />{' '}
          <Link to={`/runs/${run.id}`} style={named ? {} : UNDERLINED}>
            {named ? `${jobWords(run.job)}, run ${run.id}` : `Run ${run.id}`}
          </Link>
        </span>
        {named && leg && <FromTo from={leg.from} to={leg.to} />}
        {run.message && <Typography.Text type="secondary">{run.message}</Typography.Text>}
      </Flex>
      <Typography.Text type="secondary">
        {did(run)} · {run.cause} · <Ago at={run.ended_at ?? run.started_at ?? run.queued_at} />
      </Typography.Text>
    </Flex>
  )
}
