import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Card, Empty, Flex, Popconfirm, Tag, Typography } from 'antd'
import { Link } from 'react-router'
import { api, got, type Store } from '../../api/client'
import { runsQuery } from '../../api/runs'
import { storesQuery } from '../../api/stores'
import { place } from '../../lib/words'
import { Ago, Failed, Loaded, PageHead, useMay } from '../../parts/parts'
import { DataTable } from '../../parts/DataTable'

/** A key that nobody has changed for a year wants a person. */
const isOld = (at: string | null) => at != null && Date.now() - Date.parse(at) > 365 * 86_400_000

export default function StoresPage() {
  const query = useQuery(storesQuery())
  const mayAdd = useMay('administer')
  const add = mayAdd && (
    <Link to="/stores/new">
      <Button type="primary">Add a store</Button>
    </Link>
  )
  return (
    <>
      <PageHead title="Stores">{add}</PageHead>
      <Loaded query={query}>
        {(stores) =>
          stores.length ? (
            <List stores={stores} />
          ) : (
            <Empty
              image={Empty.PRESENTED_IMAGE_SIMPLE}
              description="No stores yet. A store is a storage system that Pine Cart can reach: a folder, or an object store."
            >
              {add}
            </Empty>
          )
        }
      </Loaded>
    </>
  )
}

function List({ stores }: { stores: Store[] }) {
  return (
    <DataTable<Store>
      rowKey="name"
      rows={stores}
      card={(s) => <StoreCard store={s} />}
      columns={[
        { title: 'Store', render: (_, s) => <Link to={`/stores/${s.name}`}>{s.name}</Link> },
        { title: 'Kind', dataIndex: 'kind', width: 70 },
        {
          title: 'Address',
          width: '24%',
          render: (_, s) => (
            <Typography.Text code style={{ overflowWrap: 'anywhere' }}>
              {s.address}
            </Typography.Text>
          ),
        },
        {
          title: 'Confined to',
          render: (_, s) => s.root || (s.shows_buckets ? 'all buckets' : 'this folder'),
        },
        { title: 'Last try', render: (_, s) => <LastTry store={s} /> },
        {
          title: 'Key given',
          width: 130,
          render: (_, s) =>
            s.secret_since && (
              <>
                <Ago at={s.secret_since} />
                {isOld(s.secret_since) && (
                  <Typography.Text type="warning"> ◆ over a year: give a new one</Typography.Text>
                )}
              </>
            ),
        },
        {
          title: 'Jobs',
          render: (_, s) =>
            s.jobs.map((j) => (
              <div key={j}>
                <Link to={`/jobs/${j}`}>{j}</Link>
              </div>
            )),
        },
        { title: 'Labels', render: (_, s) => s.labels?.map((l) => <Tag key={l}>{l}</Tag>) },
        { title: '', width: 190, render: (_, s) => <Actions store={s} /> },
      ]}
    />
  )
}

function StoreCard({ store: s }: { store: Store }) {
  return (
    <Card size="small">
      <Link to={`/stores/${s.name}`}>
        <Typography.Text strong style={{ color: 'inherit' }}>
          {s.name}
        </Typography.Text>
      </Link>{' '}
      · {s.kind}
      <div>
        <Typography.Text code style={{ overflowWrap: 'anywhere' }}>
          {s.address}
        </Typography.Text>
      </div>
      <LastTry store={s} />
      {!!s.labels?.length && (
        <div>
          {s.labels.map((l) => (
            <Tag key={l}>{l}</Tag>
          ))}
        </div>
      )}
      <Actions store={s} />
    </Card>
  )
}

function LastTry({ store }: { store: Store }) {
  if (!store.tried_at) return <Typography.Text type="secondary">never tried</Typography.Text>
  const bad = store.tried?.find((s) => s.ok === false)
  return (
    <span>
      {bad ? (
        <Typography.Text type="danger">
          ✗ {bad.step}: {bad.message}
        </Typography.Text>
      ) : (
        '✓ works'
      )}
      , <Ago at={store.tried_at} />
    </span>
  )
}

function Actions({ store }: { store: Store }) {
  const queries = useQueryClient()
  const mayTry = useMay('define')
  const mayChange = useMay('administer')
  const path = { params: { path: { name: store.name } } }
  const again = () => queries.invalidateQueries()
  const tried = useMutation({
    mutationFn: () =>
      got(api.POST('/api/v1/stores/{name}/try', { ...path, body: { write_to: '' } })),
    onSettled: again,
  })
  const held = useQuery(runsQuery({ state: 'held', limit: 500 }))
  const waiting = (held.data ?? []).filter(
    (r) =>
      r.held?.lists.length === 0 &&
      r.legs.some((l) => [l.from, l.to].some((at) => place(at).store === store.name)),
  )
  const goOn = useMutation({
    mutationFn: () => got(api.POST('/api/v1/stores/{name}/go-on', path)),
    onSettled: again,
  })
  const drop = useMutation({
    mutationFn: () => got(api.DELETE('/api/v1/stores/{name}', path)),
    onSuccess: again,
  })
  return (
    <Flex gap={4} wrap>
      {mayTry && (
        <Button size="small" onClick={() => tried.mutate()} loading={tried.isPending}>
          Try
        </Button>
      )}
      {mayChange && (
        <>
          <Link to={`/stores/${store.name}/change`}>
            <Button size="small">Change</Button>
          </Link>
          <Popconfirm
            title={`Forget ${store.name} and its key?`}
            description="Nothing in it is touched."
            okText="Forget it"
            onConfirm={() => drop.mutate()}
          >
            <Button size="small" danger>
              Drop
            </Button>
          </Popconfirm>
        </>
      )}
      {waiting.length > 0 && (
        <Button size="small" type="primary" onClick={() => goOn.mutate()} loading={goOn.isPending}>
          {waiting.length === 1
            ? 'Let the run that waits go on'
            : `Let ${waiting.length} runs that wait go on`}
        </Button>
      )}
      {drop.error && <Failed error={drop.error} />}
      {goOn.error && <Failed error={goOn.error} />}
    </Flex>
  )
}
