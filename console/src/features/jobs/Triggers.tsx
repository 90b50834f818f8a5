import { useQuery } from '@tanstack/react-query'
import { Card, Descriptions, Typography } from 'antd'
import { Link } from 'react-router'
import type { TriggerFacts } from '../../api/client'
import { triggersQuery } from '../../api/jobs'
import { files } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { UNDERLINED } from '../../parts/layout'
import { Ago, Loaded } from '../../parts/parts'

/** Of one job: whether what starts it besides the clock is alive. */
export function TriggerCard({ job, when }: { job: string; when: string }) {
  const query = useQuery({ ...triggersQuery(job), refetchInterval: 2000 })
  return (
    <Card size="small" title="What starts it" style={{ marginTop: 16 }}>
      <Loaded query={query}>
        {([told]) => (
          <>
            <Typography.Paragraph>It runs {when}.</Typography.Paragraph>
            {told?.kind === 'changes' && <Life told={told} />}
          </>
        )}
      </Loaded>
    </Card>
  )
}

function Life({ told }: { told: TriggerFacts }) {
  return (
    <Descriptions
      size="small"
      column={1}
      items={[
        { key: 'looked', label: 'Last looked', children: <Ago at={told.looked_at} /> },
        { key: 'noticed', label: 'Noticed', children: <Noticed told={told} /> },
        { key: 'started', label: 'Started', children: <Started told={told} /> },
        { key: 'now', label: 'Now', children: <Now told={told} /> },
        ...(told.how ? [{ key: 'how', label: 'How', children: told.how }] : []),
      ]}
    />
  )
}

/** All that starts jobs besides the clock; nothing, where there is none. */
export function Triggers() {
  const query = useQuery({ ...triggersQuery(), refetchInterval: 5000 })
  if (!query.data?.length) return null
  return (
    <Card size="small" title="Started by what happens" style={{ marginTop: 24 }}>
      <DataTable
        rows={query.data}
        rowKey="job"
        columns={[
          {
            title: 'Job',
            render: (_, told) => (
              <>
                <Link to={`/jobs/${told.job}`} style={UNDERLINED}>
                  {told.job}
                </Link>{' '}
                <Typography.Text type="secondary">{told.when}</Typography.Text>
              </>
            ),
          },
          { title: 'Looked', render: (_, told) => <Ago at={told.looked_at} never="–" /> },
          { title: 'Noticed', render: (_, told) => <Noticed told={told} /> },
          { title: 'Started', render: (_, told) => <Started told={told} /> },
          { title: 'Now', render: (_, told) => <Now told={told} /> },
        ]}
      />
    </Card>
  )
}

function Noticed({ told }: { told: TriggerFacts }) {
  if (!told.noticed_at) return <>–</>
  return (
    <span>
      {files(told.noticed)}, <Ago at={told.noticed_at} />
    </span>
  )
}

function Started({ told }: { told: TriggerFacts }) {
  if (!told.run) return <>–</>
  return (
    <span>
      <Link to={`/runs/${told.run}`} style={UNDERLINED}>
        run {told.run}
      </Link>
      , <Ago at={told.run_at} />
    </span>
  )
}

function Now({ told }: { told: TriggerFacts }) {
  if (!told.is_on) return <>○ the job is off</>
  if (told.message) return <Typography.Text type="danger">✗ {told.message}</Typography.Text>
  if (told.waits) return <>◌ {told.waits}</>
  return <>{told.kind === 'changes' && !told.looked_at ? 'about to look' : 'nothing new'}</>
}
