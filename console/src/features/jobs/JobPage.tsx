import { useMutation, useQuery } from '@tanstack/react-query'
import { Button, Card, Checkbox, Col, Empty, Flex, Row, Typography } from 'antd'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, got, type Job } from '../../api/client'
import { runsQuery } from '../../api/runs'
import { jobQuery } from '../../api/jobs'
import { DueTimes } from '../../parts/DueTimes'
import { Ago, Failed, FromTo, Loaded, PageHead, useMay } from '../../parts/parts'
import { RunLine } from '../../parts/RunLine'
import { Sentences } from '../../parts/Sentences'
import { WhoIsTold } from '../notices/WhoIsTold'
import { History } from './History'
import type { DEPTHS } from './AuditPage'
import { MoreOfJob } from './MoreOfJob'
import { TriggerCard } from './Triggers'
import { Versions } from './Versions'

export default function JobPage() {
  const { name = '' } = useParams()
  const mayTell = useMay('administer')
  const job = useQuery({ ...jobQuery(name), refetchInterval: 5000 })
  const runs = useQuery({ ...runsQuery({ job: name, limit: 10 }), refetchInterval: 5000 })
  return (
    <Loaded query={job}>
      {(told) => (
        <>
          <PageHead title={told.title}>
            <Actions job={told} />
          </PageHead>
          <Row gutter={[16, 16]}>
            <Col xs={24} lg={11}>
              <Card size="small" title="What it does">
                {told.definition.legs.map((leg) => (
                  <div key={leg.to} style={{ marginBottom: 8 }}>
                    <FromTo from={leg.from} to={leg.to} />
                  </div>
                ))}
                <Sentences
                  sentences={told.sentences.filter((words) => !words.startsWith('Takes from'))}
                  dangers={told.dangers}
                />
                <Off job={told} />
                {told.definition.why && (
                  <Typography.Paragraph type="secondary" style={{ margin: '8px 0 0' }}>
                    Why: {told.definition.why}
                  </Typography.Paragraph>
                )}
                <Typography.Paragraph type="secondary" style={{ margin: '8px 0 0' }}>
                  {told.job} · version {told.version} · owner {told.definition.owner} · next due:{' '}
                  {told.is_on ? (
                    <Ago at={told.next_due} never="when started" />
                  ) : (
                    'never: it is off'
                  )}
                </Typography.Paragraph>
              </Card>
              {told.due.length > 0 && (
                <Card size="small" title={`Runs ${told.when}`} style={{ marginTop: 16 }}>
                  <DueTimes due={told.due} most={5} />
                </Card>
              )}
              {told.when && !told.due.length && <TriggerCard job={told.job} when={told.when} />}
              <Versions job={told} />
              {mayTell && <WhoIsTold job={told} />}
              <Card size="small" title="Last audit" style={{ marginTop: 16 }}>
                {told.last_audit ? (
                  <>
                    <Link to={`/audits/${told.last_audit.id}`}>{told.last_audit.sentence}</Link>{' '}
                    <Ago at={told.last_audit.ended_at ?? told.last_audit.queued_at} />
                  </>
                ) : (
                  <Typography.Text type="secondary">
                    Never audited. An audit compares both sides without copying anything.
                  </Typography.Text>
                )}
              </Card>
            </Col>
            <Col xs={24} lg={13}>
              <History job={told.job} />
              <Card size="small" title="Runs" extra={<Link to={`/runs?job=${name}`}>All</Link>}>
                <Loaded query={runs}>
                  {(list) =>
                    list.length ? (
                      <>
                        {list.map((run) => (
                          <RunLine key={run.id} run={run} named={false} />
                        ))}
                      </>
                    ) : (
                      <Empty
                        image={Empty.PRESENTED_IMAGE_SIMPLE}
                        description="It has never run. Preview it first, or start it."
                      />
                    )
                  }
                </Loaded>
              </Card>
            </Col>
          </Row>
        </>
      )}
    </Loaded>
  )
}

/** Who switched it off, when and why. */
function Off({ job }: { job: Job }) {
  if (job.is_on) return null
  return (
    <Typography.Paragraph strong style={{ margin: '8px 0 0' }}>
      ○ Off since <Ago at={job.switched?.at} />, {job.switched?.by}
      {job.switched?.why && `: ${job.switched.why}`}. Nothing starts it by itself.
    </Typography.Paragraph>
  )
}

function Actions({ job }: { job: Job }) {
  const go = useNavigate()
  const mayOperate = useMay('operate')
  const mayDefine = useMay('define')
  const path = { params: { path: { name: job.job } } }
  const [wait, setWait] = useState(false)
  const start = useMutation({
    mutationFn: () => got(api.POST('/api/v1/jobs/{name}/start', path)),
    onSuccess: (run) => go(`/runs/${run.id}`),
  })
  const preview = useMutation({
    mutationFn: () => got(api.POST('/api/v1/jobs/{name}/preview', { ...path, body: { wait } })),
    onSuccess: (run) => go(`/previews/${run.id}`),
  })
  const audit = useMutation({
    mutationFn: (depth: keyof typeof DEPTHS) =>
      got(api.POST('/api/v1/jobs/{name}/audit', { ...path, body: { wait, depth, sample: 100 } })),
    onSuccess: (run) => go(`/audits/${run.id}`),
  })
  const failed = [start, preview, audit].find((m) => m.error)?.error
  const alive = job.last_run && job.last_run.state !== 'ended'
  return (
    <Flex vertical gap={8}>
      <Flex gap={8} wrap>
        {mayOperate && (
          <>
            <Button onClick={() => preview.mutate()} loading={preview.isPending}>
              Preview
            </Button>
            {alive ? (
              <Link to={`/runs/${job.last_run?.id}`}>
                <Button type="primary">Watch run {job.last_run?.id}</Button>
              </Link>
            ) : (
              <Button type="primary" onClick={() => start.mutate()} loading={start.isPending}>
                Start
              </Button>
            )}
            <Button onClick={() => audit.mutate('names')} loading={audit.isPending}>
              Audit
            </Button>
            <Button onClick={() => audit.mutate('content')} loading={audit.isPending}>
              Audit content
            </Button>
            {alive && (
              <Checkbox
                checked={wait}
                onChange={(e) => setWait(e.target.checked)}
                style={{ alignSelf: 'center' }}
              >
                preview and audit after run {job.last_run?.id}
              </Checkbox>
            )}
          </>
        )}
        {mayDefine && (
          <>
            <Link to={`/jobs/${job.job}/change`}>
              <Button>Change</Button>
            </Link>
            <MoreOfJob job={job} />
          </>
        )}
      </Flex>
      {failed != null && <Failed error={failed} />}
    </Flex>
  )
}
