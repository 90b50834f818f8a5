import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Breadcrumb, Button, Drawer, Empty, Flex, Input, Popover, Tag, Typography } from 'antd'
import { useRef, useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { api, got, type Browsed } from '../../api/client'
import { branchQuery, browseQuery, headQuery, totalsQuery, versionsQuery } from '../../api/stores'
import { count, files, size, tidy } from '../../lib/words'
import { Buckets } from './Buckets'
import { TakeInventory } from './InventoryPage'
import { Bytes, Failed, Loaded, PageHead, useMay } from '../../parts/parts'
import { DataTable } from '../../parts/DataTable'
import { More } from '../../parts/More'

const BRANCH = 1000
type Entry = Omit<Browsed['entries'][number], 'kind'> & {
  kind: 'file' | 'folder' | 'bucket' | 'more'
  children?: Entry[]
}

export default function BrowsePage() {
  const { name = '' } = useParams()
  const path = useSearchParams()[0].get('path') ?? ''
  return <Browse key={`${name}/${path}`} name={name} path={path} /> // what was picked and unfolded is of this place alone
}

function Browse({ name, path }: { name: string; path: string }) {
  const [asked] = useSearchParams()
  const match = asked.get('match') ?? ''
  const everything = asked.get('all') === '1' || match !== ''
  const [looked, setLooked] = useState<string | null>(null)
  const go = useNavigate()
  const maySave = useMay('operate')
  const query = useInfiniteQuery(browseQuery({ name, path, all: everything, match }))
  const rows: Entry[] = query.data?.pages.flatMap((p) => p.entries) ?? []
  const bare = !path && rows.some((r) => r.kind === 'bucket')
  const [picked, setPicked] = useState<string[]>([])
  const tree = asked.get('tree') === '1' && !everything
  const [below, setBelow] = useState<Record<string, Entry[]>>({})
  const queries = useQueryClient()
  const unfold = async (folder: string) => {
    const inner = await queries.fetchQuery(branchQuery(name, path + folder, BRANCH))
    const more = inner.next
      ? [{ key: '', key_id: '', kind: 'more' as const, bytes: null, modified_ns: null, fault: '' }]
      : []
    setBelow((now) => ({
      ...now,
      [folder]: [...inner.entries, ...more].map((e) => ({ ...e, key_id: folder + e.key_id })),
    }))
  }
  const grown = (row: Entry): Entry =>
    row.kind === 'file' || row.kind === 'more'
      ? row
      : { ...row, children: (below[row.key_id] ?? []).map(grown) }
  const parts = path.split('/').filter(Boolean)
  const to = (p: string, all = false) =>
    `/stores/${name}?path=${encodeURIComponent(p)}${all ? '&all=1' : ''}`
  const crumbs = [
    { title: <Link to={to('')}>{name}</Link> },
    ...parts.map((part, i) => ({
      title: <Link to={to(`${parts.slice(0, i + 1).join('/')}/`)}>{part}</Link>,
    })),
  ]
  const keys = picked.map((key) => `&key=${encodeURIComponent(key)}`).join('')
  const zip = `/api/v1/stores/${name}/archive?path=${encodeURIComponent(path)}${keys}`
  return (
    <>
      <PageHead title={<Breadcrumb items={crumbs} style={{ fontSize: 18 }} />}>
        <Input.Search
          aria-label="Find below"
          allowClear
          placeholder="Find below: *.flac"
          defaultValue={match}
          style={{ width: 210 }}
          onSearch={(v) =>
            void go(`${to(path)}${v.trim() ? `&match=${encodeURIComponent(v.trim())}` : ''}`)
          }
        />
        <Input
          key={path}
          aria-label="Path"
          defaultValue={path}
          placeholder="path/"
          style={{ width: 230, fontFamily: 'monospace' }}
          onPressEnter={(e) => void go(to(tidy(e.currentTarget.value)))}
        />
        <Link to={`/copy?from=${encodeURIComponent(`pine://${name}/${path}`)}`}>
          <Button type="primary">Copy from here</Button>
        </Link>
        <Link to={`/sides?here=${encodeURIComponent(`pine://${name}/${path}`)}`}>
          <Button>Beside another place</Button>
        </Link>
        {picked.length > 0 && <Button href={zip}>Save {picked.length} as ZIP</Button>}
        <Popover
          trigger="click"
          placement="bottomRight"
          content={
            <Flex vertical gap={8} align="stretch">
              {!bare && !everything && (
                <Link to={`${to(path)}${tree ? '' : '&tree=1'}`}>
                  <Button block>{tree ? 'As rows' : 'As a tree'}</Button>
                </Link>
              )}
              <Link to={to(path, !everything)}>
                <Button block>{everything ? 'Only this level' : 'All below'}</Button>
              </Link>
              {maySave && rows.length > 0 && (
                <Button block href={zip}>
                  Save as ZIP
                </Button>
              )}
              {maySave && (path || !bare) && <Upload name={name} path={path} />}
              {maySave && (
                <TakeInventory location={`pine://${name}/${path}`} word="Take an inventory" />
              )}
              <Link to={`/stores/${name}/about`}>
                <Button block>About this store</Button>
              </Link>
              <Totals name={name} path={path} key={`${name}/${path}`} />
              {path && <Remove location={`pine://${name}/${path}`} word="Remove all of this…" />}
            </Flex>
          }
        >
          <Button>More</Button>
        </Popover>
      </PageHead>
      <Loaded query={query}>
        {() => {
          if (bare) return <Buckets name={name} />
          if (!rows.length)
            return (
              <Empty
                image={Empty.PRESENTED_IMAGE_SIMPLE}
                description={
                  match
                    ? `Nothing below pine://${name}/${path} matches ${match}.`
                    : `pine://${name}/${path} is empty.`
                }
              />
            )
          const listed = rows.filter((r) => r.kind === 'file')
          return (
            <>
              <Typography.Paragraph type="secondary">
                {everything ? 'All below' : 'This level'}: {count(rows.length - listed.length)}{' '}
                folders, {files(listed.length)} ·{' '}
                {size(listed.reduce((n, r) => n + (r.bytes ?? 0), 0))}
                {query.hasNextPage && ', and more'}
              </Typography.Paragraph>
              <DataTable<Entry>
                rowKey="key_id"
                rows={tree ? rows.map(grown) : rows}
                expandable={
                  tree
                    ? {
                        onExpand: (open, r) => {
                          if (open && !below[r.key_id]) void unfold(r.key_id)
                        },
                      }
                    : undefined
                }
                rowSelection={
                  maySave
                    ? { selectedRowKeys: picked, onChange: (keys) => setPicked(keys.map(String)) }
                    : undefined
                }
                columns={[
                  {
                    title: 'Name',
                    render: (_, r) =>
                      r.kind === 'file' ? (
                        <Button
                          type="link"
                          style={{
                            padding: 0,
                            height: 'auto',
                            whiteSpace: 'normal',
                            textAlign: 'start',
                          }}
                          onClick={() => setLooked(path + r.key_id)}
                        >
                          <Typography.Text code style={{ overflowWrap: 'anywhere' }}>
                            {r.key}
                          </Typography.Text>
                        </Button>
                      ) : r.kind === 'more' ? (
                        <Link to={to(path + r.key_id)}>
                          more than {count(BRANCH)}: open the folder
                        </Link>
                      ) : (
                        <Link to={to(path + r.key_id)}>
                          <Typography.Text code style={{ color: 'inherit' }}>
                            {r.key}
                          </Typography.Text>
                        </Link>
                      ),
                  },
                  {
                    title: 'Size',
                    align: 'right',
                    width: 110,
                    render: (_, r) =>
                      r.kind === 'file' ? <Bytes n={r.bytes} /> : r.kind === 'more' ? '' : r.kind,
                  },
                  {
                    title: 'Changed',
                    width: 170,
                    responsive: ['md'],
                    render: (_, r) => r.fault || when(r.modified_ns),
                  },
                ]}
              />
              <More of={query} />
            </>
          )
        }}
      </Loaded>
      <Drawer open={looked !== null} onClose={() => setLooked(null)} title={looked} size="large">
        {looked !== null && <Head name={name} path={looked} maySave={maySave} />}
      </Drawer>
    </>
  )
}

/** One file: what is known of it, its first bytes, and what can be done. */
function Head({ name, path, maySave }: { name: string; path: string; maySave: boolean }) {
  const query = useQuery(headQuery(name, path))
  return (
    <Loaded query={query}>
      {(told) => (
        <>
          <Typography.Paragraph>
            <Bytes n={told.bytes} /> {told.content_type && `· ${told.content_type}`}{' '}
            {told.checksum && (
              <>
                · CRC-64/NVME <code>{told.checksum}</code>
              </>
            )}
          </Typography.Paragraph>
          {(told.storage_class || told.version) && (
            <Typography.Paragraph type="secondary">
              {told.storage_class && `class ${told.storage_class} `}
              {told.version && `version ${told.version}`}
            </Typography.Paragraph>
          )}
          {Object.entries(told.tags).map(([k, v]) => (
            <Tag key={k}>
              {k}: {v}
            </Tag>
          ))}
          {Object.entries(told.metadata).map(([k, v]) => (
            <div key={k}>
              {k}: {v}
            </div>
          ))}
          <Flex gap={8} wrap style={{ margin: '12px 0' }}>
            {maySave && (
              <Button href={`/api/v1/stores/${name}/save?path=${encodeURIComponent(path)}`}>
                Save to this machine
              </Button>
            )}
            <Link to={`/copy?from=${encodeURIComponent(`pine://${name}/${path}`)}`}>
              <Button>Copy</Button>
            </Link>
            <Remove location={`pine://${name}/${path}`} word="Remove…" />
          </Flex>
          {told.version && told.version !== 'null' && (
            <Versions name={name} path={path} maySave={maySave} />
          )}
          <Typography.Text type="secondary">First bytes</Typography.Text>
          <pre
            style={{ fontSize: 12, whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}
            tabIndex={0}
          >
            {told.text ?? told.hex}
          </pre>
        </>
      )}
    </Loaded>
  )
}

/** What the bucket keeps of one file, the newest first. */
function Versions({ name, path, maySave }: { name: string; path: string; maySave: boolean }) {
  const query = useQuery(versionsQuery(name, path))
  return (
    <Loaded query={query}>
      {(kept) => (
        <DataTable
          rowKey="version"
          rows={kept}
          style={{ marginBottom: 12 }}
          title={() => `Versions kept: ${kept.length}`}
          columns={[
            {
              title: 'Since',
              render: (_, v) => (
                <>
                  {when(v.modified_ns)} {v.is_current && <Tag>now</Tag>}
                </>
              ),
            },
            {
              title: 'Size',
              align: 'right',
              render: (_, v) => (v.is_removal ? 'deleted' : <Bytes n={v.bytes} />),
            },
            {
              title: '',
              render: (_, v) =>
                maySave &&
                !v.is_removal && (
                  <a
                    href={`/api/v1/stores/${name}/save?path=${encodeURIComponent(path)}&version=${encodeURIComponent(v.version)}`}
                  >
                    Save
                  </a>
                ),
            },
          ]}
        />
      )}
    </Loaded>
  )
}

const when = (ns: number | null | undefined) =>
  ns == null ? '' : new Date(ns / 1e6).toISOString().slice(0, 19).replace('T', ' ')

/** A removal is a run that first lists, then waits for a yes: nothing happens on this click. */
function Remove({ location, word }: { location: string; word: string }) {
  const go = useNavigate()
  const mayDefine = useMay('define')
  const remove = useMutation({
    mutationFn: () => got(api.POST('/api/v1/removals', { body: { location } })),
    onSuccess: (told) => go(`/runs/${told.run.id}`),
  })
  if (!mayDefine) return null
  return (
    <>
      {remove.error && <Failed error={remove.error} />}
      <Button onClick={() => remove.mutate()} loading={remove.isPending}>
        {word}
      </Button>
    </>
  )
}

/** A file from this machine, put where nothing is yet. */
function Upload({ name, path }: { name: string; path: string }) {
  const queries = useQueryClient()
  const input = useRef<HTMLInputElement>(null)
  const send = useMutation({
    mutationFn: (file: File) =>
      got(
        api.POST('/api/v1/stores/{name}/files', {
          params: { path: { name }, query: { path: path + file.name } },
          body: file as unknown as string,
          bodySerializer: (b) => b as unknown as BodyInit,
          headers: { 'Content-Type': 'application/octet-stream' },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['browse', name] }),
  })
  return (
    <>
      {send.error && <Failed error={send.error} />}
      <input
        ref={input}
        type="file"
        hidden
        aria-label="File to upload"
        onChange={(e) => {
          const file = e.target.files?.[0]
          if (file) send.mutate(file)
          e.target.value = ''
        }}
      />
      <Button onClick={() => input.current?.click()} loading={send.isPending}>
        Upload a file
      </Button>
    </>
  )
}

/** How much lies below: counted only when it is asked for, since it lists everything. */
function Totals({ name, path }: { name: string; path: string }) {
  const query = useQuery(totalsQuery(name, path))
  if (query.data)
    return (
      <Typography.Text strong style={{ alignSelf: 'center' }}>
        {count(query.data.objects)} files · {size(query.data.bytes)}
      </Typography.Text>
    )
  return (
    <Button onClick={() => void query.refetch()} loading={query.isFetching}>
      Count all below
    </Button>
  )
}
