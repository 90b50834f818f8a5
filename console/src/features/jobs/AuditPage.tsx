import { useQuery } from '@tanstack/react-query'
import { Card, Typography } from 'antd'
import { Link, useParams } from 'react-router'
import { api, got } from '../../api/client'
import { auditQuery } from '../../api/runs'
import { FilesTable } from '../../parts/FilesTable'
import { Ago, At, Loaded, PageHead } from '../../parts/parts'

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
            <Link to={`/jobs/${told.job}`}>{told.job}</Link>
          </PageHead>
          {told.legs.map((leg) => (
            <Typography.Paragraph key={leg.to}>
              Here: <At location={leg.from} /> · there: <At location={leg.to} />
            </Typography.Paragraph>
          ))}
          <Typography.Paragraph type="secondary">
            {told.cause}, <Ago at={told.ended_at ?? told.queued_at} />. Compared by name, size and
            what is remembered; nothing was transferred.
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
