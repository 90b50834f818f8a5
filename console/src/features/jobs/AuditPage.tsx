import { useMutation, useQuery } from '@tanstack/react-query'
import { Button, Card, Typography } from 'antd'
import { Link, useNavigate, useParams } from 'react-router'
import { api, got } from '../../api/client'
import { auditQuery } from '../../api/runs'
import { FilesTable } from '../../parts/FilesTable'
import { isOneOff } from '../../lib/words'
import { Ago, At, Failed, Loaded, PageHead, useMay } from '../../parts/parts'

/** How closely an audit looks. */
export const DEPTHS = {
  names: 'By names and sizes',
  metadata: 'By names, sizes and what goes with each file',
  content: 'By names, sizes and content',
}

export default function AuditPage() {
  const number = Number(useParams().id)
  const query = useQuery({
    ...auditQuery(number),
    refetchInterval: (q) => (q.state.data?.state === 'ended' ? false : 700),
  })
  return (
    <Loaded query={query}>
      {(told) => (
        <>
          <PageHead title={told.state === 'ended' ? told.sentence : 'Comparing both sides…'}>
            {!isOneOff(told.job) && <Link to={`/jobs/${told.job}`}>{told.job}</Link>}
            {told.state === 'ended' && told.findings > 0 && <Repair audit={number} />}
          </PageHead>
          {told.legs.map((leg) => (
            <Typography.Paragraph key={leg.to}>
              Here: <At location={leg.from} /> · there: <At location={leg.to} />
            </Typography.Paragraph>
          ))}
          <Typography.Paragraph type="secondary">
            {told.cause}, <Ago at={told.ended_at ?? told.queued_at} />.{' '}
            {DEPTHS[told.audit.depth ?? 'names']}
            {(told.audit.sample ?? 100) < 100 && `, of a sample of ${told.audit.sample} %`}; nothing
            was transferred.
          </Typography.Paragraph>
          {told.message && (
            <Typography.Paragraph type="warning">▲ {told.message}</Typography.Paragraph>
          )}
          {told.state === 'ended' && (
            <Card size="small" title="Findings">
              <FilesTable
                finding
                of={['audit', number]}
                empty="No findings: both sides are the same."
                page={(after) =>
                  got(
                    api.GET('/api/v1/audits/{number}/findings', {
                      params: { path: { number }, query: { after, limit: 200 } },
                    }),
                  )
                }
              />
            </Card>
          )}
        </>
      )}
    </Loaded>
  )
}

/** What it would take to make it right is looked at first. */
function Repair({ audit }: { audit: number }) {
  const go = useNavigate()
  const mayDefine = useMay('define')
  const repair = useMutation({
    mutationFn: () =>
      got(api.POST('/api/v1/audits/{number}/repair', { params: { path: { number: audit } } })),
    onSuccess: (preview) => go(`/previews/${preview.id}`),
  })
  if (!mayDefine) return null
  return (
    <>
      {repair.error && <Failed error={repair.error} />}
      <Button type="primary" onClick={() => repair.mutate()} loading={repair.isPending}>
        Look at the repair
      </Button>
    </>
  )
}
