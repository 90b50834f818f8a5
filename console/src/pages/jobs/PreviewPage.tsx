import { useQuery } from '@tanstack/react-query'
import { Card, Typography } from 'antd'
import { Link, useParams } from 'react-router'
import { api, got } from '../../api/client'
import { FilesTable } from '../../parts/FilesTable'
import { FromTo, Loaded, PageHead } from '../../parts/parts'

export default function PreviewPage() {
  const number = Number(useParams().id)
  const query = useQuery({
    queryKey: ['preview', number], refetchInterval: (q) => (q.state.data?.state === 'ended' ? false : 700),
    queryFn: () => got(api.GET('/api/v1/previews/{number}', { params: { path: { number } } })),
  })
  return (
    <Loaded query={query}>
      {(told) => (
        <>
          <PageHead title={told.state === 'ended' ? told.sentence : 'Working the preview out…'}>{told.job !== 'carry' && <Link to={`/jobs/${told.job}`}>{told.job}</Link>}</PageHead>
          {told.legs.map((leg) => <div key={leg.to} style={{ marginBottom: 12 }}><FromTo from={leg.from} to={leg.to} /></div>)}
          {told.message && <Typography.Paragraph>{told.message}</Typography.Paragraph>}
          {told.state === 'ended' && (
            <Card size="small" title="What would be done">
              <FilesTable of={['preview', number]} empty="Nothing would be copied, replaced or removed: both sides are as they should be."
                page={(after) => got(api.GET('/api/v1/previews/{number}/objects', { params: { path: { number }, query: { after, limit: 200 } } }))} />
            </Card>
          )}
        </>
      )}
    </Loaded>
  )
}
