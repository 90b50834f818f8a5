import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import {
  Breadcrumb,
  Button,
  Drawer,
  Empty,
  Flex,
  Input,
  List,
  Select,
  Space,
  Typography,
} from 'antd'
import { useState } from 'react'
import { api, got } from '../../api/client'
import { branchQuery, storesQuery } from '../../api/stores'
import { bucketProblem, size, type Place } from '../../lib/words'
import { Failed, Loaded, useMay } from '../../parts/parts'
import { NewStore } from './StoreForm'

const SHOWN = 500

interface Props {
  title: string
  start: Partial<Place>
  onTake: (place: Place) => void
  onClose: () => void
}

/** A store is browsed in a side panel until a folder, or a file, is taken. */
export function PlacePicker({ title, start, onTake, onClose }: Props) {
  const stores = useQuery(storesQuery())
  const [store, setStore] = useState(start.store ?? '')
  const [path, setPath] = useState(upTo(start.path ?? ''))
  const [isAdding, setAdding] = useState(false)
  const mayAdminister = useMay('administer')
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
          <Button type="primary" onClick={() => onTake({ store, path })}>
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
        {isAdding ? (
          <NewStore onSaved={(name) => enter(name)} />
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
  return (
    <>
      <Way store={store} path={path} onEnter={onEnter} />
      <Loaded query={query}>
        {(level) => (
          <>
            <List
              size="small"
              locale={{ emptyText: 'Nothing lies here yet.' }}
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
      {record?.shows_buckets && !path && <NewBucket store={store} onMade={onEnter} />}
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

function NewBucket({ store, onMade }: { store: string; onMade: (path: string) => void }) {
  const mayDefine = useMay('define')
  const queries = useQueryClient()
  const [wanted, setWanted] = useState('')
  const wrong = wanted ? bucketProblem(wanted) : ''
  const make = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/stores/{name}/buckets', {
          params: { path: { name: store } },
          body: { bucket: wanted },
        }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['browse', store] })
      onMade(`${wanted}/`)
    },
  })
  if (!mayDefine) return null
  return (
    <Flex vertical gap={4} style={{ marginTop: 12 }}>
      <Space.Compact>
        <Input
          aria-label="New bucket"
          placeholder="Name of a new bucket"
          value={wanted}
          onChange={(event) => setWanted(event.target.value)}
        />
        <Button
          onClick={() => make.mutate()}
          disabled={!wanted || !!wrong}
          loading={make.isPending}
        >
          Make bucket
        </Button>
      </Space.Compact>
      {wrong && <Typography.Text type="danger">{wrong}</Typography.Text>}
      {make.error && <Failed error={make.error} />}
    </Flex>
  )
}

/** The folder that a path lies in, or is. */
const upTo = (path: string) => path.slice(0, path.lastIndexOf('/') + 1)
