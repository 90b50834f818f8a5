import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, App, Button, Card, Col, Empty, Flex, Row, Skeleton, Typography } from 'antd'
import { lazy, Suspense } from 'react'
import { Link } from 'react-router'
import {
  api,
  got,
  type Concern,
  type Happening,
  type Run,
  type TodayPicture,
} from '../../api/client'
import { pictureQuery, todayQuery } from '../../api/today'
import { exact } from '../../lib/words'
import { UNDERLINED } from '../../parts/layout'
import { Lanes } from './Lanes'
import {
  Ago,
  Failed,
  FromTo,
  JobName,
  Loaded,
  PageHead,
  useMay,
  useSession,
} from '../../parts/parts'
import { RunLine } from '../../parts/RunLine'

const Days = lazy(() => import('./Days'))

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
          <Restored of={today.restored} />
          {today.awaited.length > 0 && (
            <Happened title="Expected, and not come" rows={today.awaited} />
          )}
          {today.unusual.length > 0 && <Happened title="Unusual" rows={today.unusual} />}
          {today.concerns.length > 0 && <Concerns rows={today.concerns} />}
          <Pictures />
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
                <Card size="small" title="Ended last" extra={<Link to="/runs">All runs</Link>}>
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

/** The last 24 hours and 14 days as pictures, the stores in a line. */
function Pictures() {
  const query = useQuery(pictureQuery())
  const told = query.data
  if (!told) return null
  return (
    <>
      {told.lanes.length > 0 && (
        <Card size="small" title="The last 24 hours" style={{ marginBottom: 16 }}>
          <Lanes told={told} />
        </Card>
      )}
      <Row gutter={[16, 0]}>
        {told.days.some((day) => day.runs) && (
          <Col xs={24} lg={15}>
            <Card size="small" title="Carried a day" style={{ marginBottom: 16 }}>
              <Suspense fallback={<Skeleton active paragraph={{ rows: 4 }} />}>
                <Days days={told.days} />
              </Suspense>
            </Card>
          </Col>
        )}
        <Col xs={24} lg={9}>
          <Card size="small" title="Stores" style={{ marginBottom: 16 }}>
            {told.stores.map((store) => (
              <Flex
                key={store.name}
                justify="space-between"
                gap={8}
                wrap
                style={{ padding: '4px 0' }}
              >
                <Link to={`/stores/${store.name}`} style={UNDERLINED}>
                  {store.name}
                </Link>
                <StoreLine store={store} />
              </Flex>
            ))}
          </Card>
        </Col>
      </Row>
    </>
  )
}

function StoreLine({ store }: { store: TodayPicture['stores'][number] }) {
  if (store.is_reached === false)
    return <Typography.Text type="danger">✗ {store.message}</Typography.Text>
  return (
    <Typography.Text type="secondary">
      {store.is_reached ? (
        <>
          ✓ reached <Ago at={store.tried_at} />
        </>
      ) : (
        'never tried'
      )}
      {store.key_since && (
        <>
          {' · '}key of <Ago at={store.key_since} />
        </>
      )}
      {store.is_key_old && ' ▲'}
    </Typography.Text>
  )
}

/** What needs a person and is no run. */
function Concerns({ rows }: { rows: Concern[] }) {
  return (
    <Card size="small" title="To see to" style={{ marginBottom: 16 }}>
      {rows.map((row) => (
        <Flex
          key={row.subject + row.words}
          justify="space-between"
          gap={12}
          wrap
          style={{ padding: '8px 0' }}
        >
          <span style={{ overflowWrap: 'anywhere' }}>
            ▲ {row.subject && <b>{row.subject}: </b>}
            {row.words} <Typography.Text type="secondary">{row.todo}</Typography.Text>
          </span>
          <Link to={row.path}>
            <Button>Go there</Button>
          </Link>
        </Flex>
      ))}
    </Card>
  )
}

function Happened({ title, rows }: { title: string; rows: Happening[] }) {
  return (
    <Card size="small" title={title} style={{ marginBottom: 16 }}>
      {rows.map((row) => (
        <Flex key={row.name} justify="space-between" gap={12} wrap style={{ padding: '8px 0' }}>
          <span>
            ▲ <JobName job={row.job} />: {row.words}
          </span>
          <Link to={row.path}>
            <Button>Look</Button>
          </Link>
        </Flex>
      ))}
    </Card>
  )
}

/** After a restore nothing starts by itself until somebody says so. */
function Restored({ of }: { of: string }) {
  const queries = useQueryClient()
  const mayGoOn = useSession().data?.administers_all
  const goOn = useMutation({
    mutationFn: () => got(api.POST('/api/v1/settings/go-on')),
    onSuccess: () => queries.invalidateQueries(),
  })
  if (!of) return null
  return (
    <Alert
      type="warning"
      showIcon={false}
      style={{ marginBottom: 16 }}
      title={`◆ Restored from a backup of ${exact(of)}: nothing starts by itself until somebody says so.`}
      action={
        mayGoOn && (
          <Button type="primary" onClick={() => goOn.mutate()} loading={goOn.isPending}>
            Go on: jobs start by themselves again
          </Button>
        )
      }
    />
  )
}

function Needed({ run }: { run: Run }) {
  const leg = run.legs[0]
  return (
    <Flex justify="space-between" align="center" gap={12} wrap style={{ padding: '8px 0' }}>
      <Flex vertical gap={2}>
        <Typography.Text strong>
          <JobName job={run.job} />
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
