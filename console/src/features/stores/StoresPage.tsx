import { useQuery } from '@tanstack/react-query'
import { Button, Card, Empty, Tag, Typography } from 'antd'
import { Link } from 'react-router'
import type { Store } from '../../api/client'
import { storesQuery } from '../../api/stores'
import { Ago, Loaded, PageHead, useMay } from '../../parts/parts'
import { DataTable } from '../../parts/DataTable'
import { UNDERLINED } from '../../parts/layout'
import { isOld } from './keyAge'

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
        { title: 'Store', render: (_, s) => <Link to={`/stores/${s.name}/about`}>{s.name}</Link> },
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
        { title: '', width: 80, render: (_, s) => <Link to={`/stores/${s.name}`}>Browse</Link> },
      ]}
    />
  )
}

function StoreCard({ store: s }: { store: Store }) {
  return (
    <Card size="small">
      <Link to={`/stores/${s.name}/about`}>
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
      <Link to={`/stores/${s.name}`} style={UNDERLINED}>
        Browse
      </Link>
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
