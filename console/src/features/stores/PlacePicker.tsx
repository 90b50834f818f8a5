import { useQuery } from '@tanstack/react-query'
import { Breadcrumb, Button, Drawer, Empty, Flex, List, Select, Typography } from 'antd'
import { useState } from 'react'
import { branchQuery, storesQuery } from '../../api/stores'
import { size, type Place } from '../../lib/words'
import { Loaded, useMay } from '../../parts/parts'
import { NewBucket } from './NewBucket'
import { NewStore } from './StoreForm'

const SHOWN = 500

interface Props {
  title: string
  start: Partial<Place>
  /** The address of something that no store reaches yet: a store is added first. */
  address?: string
  onTake: (place: Place) => void
  onClose: () => void
}

/** A store is browsed in a side panel until a folder, or a file, is taken. */
export function PlacePicker({ title, start, address, onTake, onClose }: Props) {
  const stores = useQuery(storesQuery())
  const [store, setStore] = useState(start.store ?? '')
  const [path, setPath] = useState(upTo(start.path ?? ''))
  const [isAdding, setAdding] = useState(!!address)
  const mayAdminister = useMay('administer')
  const record = stores.data?.find((s) => s.name === store)
  const isBucketless = !path && !!record?.shows_buckets
  const enter = (name: string, below = '') => {
    setStore(name)
    setPath(below)
    setAdding(false)
  }
  return (
    <Drawer
      open
      title={title}
      onClose={onClose}
      size={isAdding ? 'large' : 'default'}
      extra={
        store &&
        !isAdding && (
          <Button
            type="primary"
            disabled={isBucketless}
            title={isBucketless ? 'Choose a bucket first, or make one.' : undefined}
            onClick={() => onTake({ store, path })}
          >
            Take this folder
          </Button>
        )
      }
    >
      {/* the form that this panel was opened from isn't to hear of what is submitted here */}
      <div onSubmit={(event) => event.stopPropagation()}>
        <Flex gap={8} style={{ marginBottom: 12 }}>
          <Select
            aria-label="Store"
            placeholder="Store"
            value={store || undefined}
            onChange={(name: string) => enter(name)}
            options={(stores.data ?? []).map((s) => ({ value: s.name, label: s.name }))}
            style={{ flex: 1 }}
            showSearch
          />
          {mayAdminister && (
            <Button onClick={() => setAdding(!isAdding)}>
              {isAdding ? 'Browse' : 'Add a store'}
            </Button>
          )}
        </Flex>
        {isAdding && mayAdminister ? (
          <NewStore pasted={address} onSaved={(name) => enter(name)} />
        ) : store ? (
          <Level store={store} path={path} onEnter={setPath} onTake={onTake} />
        ) : (
          <Empty image={Empty.PRESENTED_IMAGE_SIMPLE} description="Choose a store to look into." />
        )}
      </div>
    </Drawer>
  )
}

interface LevelProps {
  store: string
  path: string
  onEnter: (path: string) => void
  onTake: (place: Place) => void
}

function Level({ store, path, onEnter, onTake }: LevelProps) {
  const query = useQuery(branchQuery(store, path, SHOWN))
  const record = useQuery(storesQuery()).data?.find((s) => s.name === store)
  const isBucketless = !path && !!record?.shows_buckets
  return (
    <>
      <Way store={store} path={path} onEnter={onEnter} />
      <Loaded query={query}>
        {(level) => (
          <>
            <List
              size="small"
              locale={{ emptyText: isBucketless ? 'No bucket yet.' : 'Nothing lies here yet.' }}
              dataSource={level.entries}
              renderItem={(item) => {
                const below = path + item.key_id
                const isFolder = item.kind !== 'file'
                return (
                  <List.Item key={below} style={{ padding: '2px 0' }}>
                    <Button
                      type="text"
                      size="small"
                      style={{ fontFamily: 'monospace' }}
                      onClick={() => (isFolder ? onEnter(below) : onTake({ store, path: below }))}
                    >
                      {item.key}
                    </Button>
                    {!isFolder && (
                      <Typography.Text type="secondary">{size(item.bytes)}</Typography.Text>
                    )}
                  </List.Item>
                )
              }}
            />
            {level.next && (
              <Typography.Text type="secondary">
                The first {SHOWN}. What lies further is typed into the path.
              </Typography.Text>
            )}
          </>
        )}
      </Loaded>
      {isBucketless && <NewBucket store={store} onMade={(bucket) => onEnter(`${bucket}/`)} />}
    </>
  )
}

function Way({ store, path, onEnter }: Omit<LevelProps, 'onTake'>) {
  const parts = path.split('/').filter(Boolean)
  const way = [{ name: store, to: '' }]
  parts.forEach((name, n) => way.push({ name, to: `${parts.slice(0, n + 1).join('/')}/` }))
  return (
    <Breadcrumb
      style={{ marginBottom: 8 }}
      items={way.map(({ name, to }) => ({
        key: to,
        title: (
          <Button type="link" size="small" style={{ padding: 0 }} onClick={() => onEnter(to)}>
            {name}
          </Button>
        ),
      }))}
    />
  )
}

/** The folder that a path lies in, or is. */
const upTo = (path: string) => path.slice(0, path.lastIndexOf('/') + 1)
