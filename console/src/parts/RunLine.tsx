import { Flex, Typography } from 'antd'
import { Link } from 'react-router'
import type { Run } from '../api/client'
import { count, size } from '../lib/words'
import { Ago, FromTo, Mark } from './parts'

export const did = (run: Run): string => {
  const objects = run.totals.copy.objects + run.totals.replace.objects
  return objects ? `${count(objects)} carried · ${size(run.totals.copy.bytes + run.totals.replace.bytes)}` : 'nothing carried'
}

/** One run as a line of a list, for any width. */
export function RunLine({ run, named = true }: { run: Run; named?: boolean }) {
  const leg = run.legs[0]
  return (
    <Flex justify="space-between" gap={4} wrap style={{ padding: '8px 0' }}>
      <Flex vertical gap={2} style={{ minWidth: 0 }}>
        <span><Mark word={run.outcome || run.state} /> <Link to={`/runs/${run.id}`}>{named ? `${run.job === 'carry' ? 'Copy' : run.job}, run ${run.id}` : `Run ${run.id}`}</Link></span>
        {named && leg && <FromTo from={leg.from} to={leg.to} />}
        {run.message && <Typography.Text type="secondary">{run.message}</Typography.Text>}
      </Flex>
      <Typography.Text type="secondary">{did(run)} · {run.cause} · <Ago at={run.ended_at ?? run.started_at ?? run.queued_at} /></Typography.Text>
    </Flex>
  )
}
