import { useQuery } from '@tanstack/react-query'
import { Button, Card, Col, Descriptions, Flex, Row, Tag, Typography } from 'antd'
import { Link, useParams } from 'react-router'
import type { Store } from '../../api/client'
import { formsQuery } from '../../api/forms'
import { inventoriesQuery, storesQuery } from '../../api/stores'
import { UNDERLINED } from '../../parts/layout'
import { Ago, Loaded, PageHead, useMay } from '../../parts/parts'
import { TakeInventory } from './InventoryPage'
import { StoreActions } from './StoreActions'
import { isOld } from './keyAge'

/** Can we reach it? What it is, its last try step by step, who uses it, how much lies there. */
export default function StorePage() {
  const { name = '' } = useParams()
  const query = useQuery(storesQuery())
  return (
    <Loaded query={query}>
      {(stores) => {
        const store = stores.find((one) => one.name === name)
        return store ? <Told store={store} /> : <PageHead title={`There is no store ${name}.`} />
      }}
    </Loaded>
  )
}

function Told({ store }: { store: Store }) {
  return (
    <>
      <PageHead title={store.name}>
        <Link to={`/stores/${store.name}`}>
          <Button type="primary">Browse</Button>
        </Link>
        <StoreActions store={store} />
      </PageHead>
      <Row gutter={[16, 16]}>
        <Col xs={24} lg={12}>
          <Facts store={store} />
          <Jobs store={store} />
        </Col>
        <Col xs={24} lg={12}>
          <LastTry store={store} />
          <Room store={store} />
        </Col>
      </Row>
    </>
  )
}

/** What its form was filled with, secrets aside. */
function Facts({ store }: { store: Store }) {
  const forms = useQuery(formsQuery())
  const kind = forms.data?.stores.find((k) => k.kind === store.kind)
  const told: Record<string, unknown> = store
  const facts = [
    { key: 'kind', label: 'Kind', children: kind?.title ?? store.kind },
    ...(kind?.fields ?? [])
      .filter((field) => told[field.name])
      .map((field) => ({
        key: field.name,
        label: field.title,
        children: (
          <Typography.Text code style={{ overflowWrap: 'anywhere' }}>
            {String(told[field.name])}
          </Typography.Text>
        ),
      })),
    ...(store.secret_since
      ? [
          {
            key: 'since',
            label: 'Key given',
            children: (
              <>
                <Ago at={store.secret_since} />
                {isOld(store.secret_since) && (
                  <Typography.Text type="warning"> ◆ over a year: give a new one</Typography.Text>
                )}
              </>
            ),
          },
        ]
      : []),
    {
      key: 'labels',
      label: 'Labels',
      children: store.labels?.length ? store.labels.map((l) => <Tag key={l}>{l}</Tag>) : 'none',
    },
  ]
  return (
    <Card size="small" title="What it is" style={{ marginBottom: 16 }}>
      <Descriptions column={1} size="small" items={facts} />
    </Card>
  )
}

function Jobs({ store }: { store: Store }) {
  return (
    <Card size="small" title="Jobs that use it">
      {store.jobs.length ? (
        store.jobs.map((job) => (
          <div key={job}>
            <Link to={`/jobs/${job}`} style={UNDERLINED}>
              {job}
            </Link>
          </div>
        ))
      ) : (
        <Typography.Text type="secondary">No job uses it.</Typography.Text>
      )}
    </Card>
  )
}

const SIGNS = { true: '✓', false: '✗', null: '◇' }

function LastTry({ store }: { store: Store }) {
  const steps = store.tried ?? []
  return (
    <Card
      size="small"
      title="Last try, step by step"
      extra={store.tried_at && <Ago at={store.tried_at} />}
      style={{ marginBottom: 16 }}
    >
      {steps.length ? (
        steps.map((step) => (
          <Flex key={step.step} gap={12} style={{ padding: '4px 0' }}>
            <span style={{ width: 110, flex: 'none' }}>
              {SIGNS[`${step.ok ?? null}` as keyof typeof SIGNS]} {step.step}
            </span>
            {step.ok === false ? (
              <Typography.Text type="danger">{step.message}</Typography.Text>
            ) : (
              <Typography.Text type="secondary">{step.message}</Typography.Text>
            )}
          </Flex>
        ))
      ) : (
        <Typography.Text type="secondary">
          It was never tried. A try connects, signs in and lists; it writes only where you say.
        </Typography.Text>
      )}
    </Card>
  )
}

/** How much lies there, by the last inventories. */
function Room({ store }: { store: Store }) {
  const query = useQuery(inventoriesQuery())
  const mayTake = useMay('operate')
  const whole = `pine://${store.name}/`
  const own = (query.data ?? []).filter((run) => run.legs[0]?.from.startsWith(whole)).slice(0, 5)
  return (
    <Card
      size="small"
      title="Room taken"
      extra={mayTake && <TakeInventory location={whole} word="Take an inventory" />}
    >
      {own.length ? (
        own.map((run) => (
          <div key={run.id} style={{ padding: '4px 0' }}>
            <Link to={`/inventories/${run.id}`} style={UNDERLINED}>
              {run.sentence}
            </Link>{' '}
            <Ago at={run.ended_at ?? run.queued_at} />
          </div>
        ))
      ) : (
        <Typography.Text type="secondary">
          Not counted yet. An inventory lists all of it, and tells its folders, ages and kinds.
        </Typography.Text>
      )}
    </Card>
  )
}
