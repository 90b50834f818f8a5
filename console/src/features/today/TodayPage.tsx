import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Card, Col, Empty, Flex, Row, Typography } from 'antd'
import { Link } from 'react-router'
import { api, got, type Run } from '../../api/client'
import { todayQuery } from '../../api/today'
import { Ago, Failed, FromTo, Loaded, PageHead, useMay, useSession } from '../../parts/parts'
import { RunLine } from '../../parts/RunLine'

export default function TodayPage() {
  const query = useQuery({ ...todayQuery(), refetchInterval: 5000 })
  const mayDefine = useMay('define')
  return (
    <Loaded query={query}>
      {(today) => (
        <>
          <PageHead title={today.sentence}>
            <Arrive />
          </PageHead>
          {today.due.length === 0 &&
            today.recent.length === 0 &&
            today.working.length === 0 &&
            today.needed.length === 0 && (
              <Empty
                image={Empty.PRESENTED_IMAGE_SIMPLE}
                description="Nothing has run yet. A job says what goes from where to where, and when."
              >
                {mayDefine && (
                  <Flex gap={8} justify="center">
                    <Link to="/stores/new">
                      <Button>Add a store</Button>
                    </Link>
                    <Link to="/jobs/new">
                      <Button type="primary">Define a job</Button>
                    </Link>
                  </Flex>
                )}
              </Empty>
            )}
          {today.needed.length > 0 && (
            <Card size="small" title="Needs a look" style={{ marginBottom: 16 }}>
              {today.needed.map((run) => (
                <Needed key={run.id} run={run} />
              ))}
            </Card>
          )}
          <Row gutter={[16, 16]}>
            <Col xs={24} lg={15}>
              {today.working.length > 0 && (
                <Card size="small" title="Under way" style={{ marginBottom: 16 }}>
                  {today.working.map((run) => (
                    <RunLine key={run.id} run={run} />
                  ))}
                </Card>
              )}
              {today.recent.length > 0 && (
                <Card
                  size="small"
                  title="The last 24 hours"
                  extra={<Link to="/runs">All runs</Link>}
                >
                  {today.recent.slice(0, 8).map((run) => (
                    <RunLine key={run.id} run={run} />
                  ))}
                </Card>
              )}
            </Col>
            <Col xs={24} lg={9}>
              {today.due.length > 0 && (
                <Card size="small" title="Due next">
                  {today.due.map((due) => (
                    <Flex
                      key={due.job}
                      justify="space-between"
                      gap={8}
                      style={{ padding: '6px 0' }}
                    >
                      <Link to={`/jobs/${due.job}`}>{due.job}</Link>
                      <Ago at={due.next_due} />
                    </Flex>
                  ))}
                </Card>
              )}
            </Col>
          </Row>
        </>
      )}
    </Loaded>
  )
}

function Needed({ run }: { run: Run }) {
  const leg = run.legs[0]
  return (
    <Flex justify="space-between" align="center" gap={12} wrap style={{ padding: '8px 0' }}>
      <Flex vertical gap={2}>
        <Typography.Text strong>
          {run.job === 'carry' ? 'A copy' : <Link to={`/jobs/${run.job}`}>{run.job}</Link>}
        </Typography.Text>
        <span>{run.sentence}</span>
        {leg && <FromTo from={leg.from} to={leg.to} />}
      </Flex>
      <Link to={`/runs/${run.id}`}>
        <Button type="primary">Look at run {run.id}</Button>
      </Link>
    </Flex>
  )
}

/** Only in the demo: new recordings arrive at the posts. */
function Arrive() {
  const demo = useSession().data?.demo
  const { message } = App.useApp()
  const queries = useQueryClient()
  const arrive = useMutation({
    mutationFn: () => got(api.POST('/api/v1/demo/arrive')),
    onSuccess: (told) => {
      void message.success(
        `${told.arrived.length} recordings arrived, ${told.changed.length} sheet changed. Start dawn-recordings to carry them.`,
      )
      void queries.invalidateQueries()
    },
  })
  if (!demo) return null
  return (
    <>
      {arrive.error && <Failed error={arrive.error} />}
      <Button onClick={() => arrive.mutate()} loading={arrive.isPending}>
        Let recordings arrive
      </Button>
    </>
  )
}
