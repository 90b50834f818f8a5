import { useQuery } from '@tanstack/react-query'
import { Button, Card, Empty, Flex, Typography } from 'antd'
import { Link } from 'react-router'
import { type Job } from '../../api/client'
import { jobsQuery } from '../../api/jobs'
import { useNow } from '../../hooks/live'
import { Ago, FromTo, Loaded, Mark, PageHead, useMay } from '../../parts/parts'
import { TimeAxis } from '../../parts/TimeAxis'
import { DataTable } from '../../parts/DataTable'

const INTENTS: Record<string, string> = {
  'top-up': 'Add what is missing',
  renew: 'Add new, replace changed',
}

export default function JobsPage() {
  const query = useQuery({ ...jobsQuery(), refetchInterval: 5000 })
  const mayDefine = useMay('define')
  const define = mayDefine && (
    <Link to="/jobs/new">
      <Button type="primary">Define a job</Button>
    </Link>
  )
  return (
    <>
      <PageHead title="Jobs">{define}</PageHead>
      <Loaded query={query}>
        {(jobs) =>
          jobs.length ? (
            <List jobs={jobs} />
          ) : (
            <Empty
              image={Empty.PRESENTED_IMAGE_SIMPLE}
              description="No jobs yet. A job says what goes from where to where, by which rules, and when."
            >
              {define}
            </Empty>
          )
        }
      </Loaded>
    </>
  )
}

function List({ jobs }: { jobs: Job[] }) {
  const now = useNow(60_000)
  return (
    <DataTable<Job>
      rowKey="job"
      rows={jobs}
      card={(job) => <JobCard job={job} />}
      columns={[
        {
          title: 'Job',
          render: (_, job) => (
            <>
              <Link to={`/jobs/${job.job}`}>{job.job}</Link>
              <br />
              <Typography.Text type="secondary">
                {INTENTS[job.definition.intent ?? '']}
              </Typography.Text>
            </>
          ),
        },
        { title: 'From → to', render: (_, job) => <Legs job={job} /> },
        { title: 'Last run', render: (_, job) => <Last job={job} /> },
        {
          title: 'Last 14 days',
          width: 190,
          render: (_, job) => <TimeAxis marks={job.marks} now={now} />,
        },
        { title: 'Next', render: (_, job) => <Ago at={job.next_due} never="when started" /> },
      ]}
    />
  )
}

function JobCard({ job }: { job: Job }) {
  return (
    <Card size="small">
      <Link to={`/jobs/${job.job}`}>
        <Typography.Text strong style={{ color: 'inherit' }}>
          {job.job}
        </Typography.Text>
      </Link>
      <div>
        <Legs job={job} />
      </div>
      <Flex justify="space-between" wrap gap={8}>
        <Last job={job} />
        <span>
          next: <Ago at={job.next_due} never="when started" />
        </span>
      </Flex>
    </Card>
  )
}

const Legs = ({ job }: { job: Job }) => (
  <>
    {job.definition.legs.map((leg) => (
      <div key={leg.to}>
        <FromTo from={leg.from} to={leg.to} />
      </div>
    ))}
  </>
)

function Last({ job }: { job: Job }) {
  const run = job.last_run
  if (!run) return <Typography.Text type="secondary">never ran</Typography.Text>
  return (
    <Link to={`/runs/${run.id}`}>
      <Mark word={run.outcome || run.state} />
      <br />
      <Typography.Text type="secondary">
        <Ago at={run.ended_at ?? run.queued_at} />
      </Typography.Text>
    </Link>
  )
}
