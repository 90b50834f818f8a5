import { useMutation, useQuery } from '@tanstack/react-query'
import { Breadcrumb, Button, Card, Col, Flex, Row, Skeleton, Typography } from 'antd'
import { lazy, Suspense } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { api, got, type FolderSum, type Inventory } from '../../api/client'
import { inventoryQuery } from '../../api/stores'
import { count } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { TablePicture } from '../../parts/TablePicture'
import { UNDERLINED } from '../../parts/layout'
import { Ago, At, Bytes, Failed, Loaded, PageHead } from '../../parts/parts'

const FolderAreas = lazy(() => import('./FolderAreas'))

/** What lies in a place: by folder (entered where wanted), age and kind, and the largest. */
export default function InventoryPage() {
  const number = Number(useParams().id)
  const [asked] = useSearchParams()
  const folder = asked.get('folder') ?? ''
  const query = useQuery({
    ...inventoryQuery(number, folder),
    refetchInterval: (q) => (q.state.data?.state === 'ended' ? false : 700),
  })
  return (
    <Loaded query={query}>
      {(told) => {
        const place = told.legs[0]?.from ?? ''
        return (
          <>
            <PageHead title={told.sentence}>
              <TakeInventory location={place + folder} word="Take it anew" />
            </PageHead>
            <Typography.Paragraph type="secondary">
              <At location={place} /> {told.cause}, <Ago at={told.ended_at ?? told.queued_at} />
              {told.state !== 'ended' && `; ${count(told.progress?.listed ?? 0)} listed so far`}
            </Typography.Paragraph>
            {told.folder && <Counted told={told} folder={told.folder} />}
          </>
        )
      }}
    </Loaded>
  )
}

function Counted({ told, folder }: { told: Inventory; folder: FolderSum }) {
  const table = <Folders told={told} folder={folder} />
  return (
    <Flex vertical gap={16}>
      <Card size="small" title={<Way path={folder.key_id} />}>
        {told.inside.length ? (
          <TablePicture
            picture={
              <Suspense fallback={<Skeleton active={false} paragraph={{ rows: 6 }} />}>
                <FolderAreas folders={told.inside} of={folder} />
              </Suspense>
            }
            table={table}
          />
        ) : (
          table
        )}
      </Card>
      <Row gutter={[16, 16]}>
        <Col xs={24} lg={8}>
          <Sums title="Last changed within" rows={told.ages} />
        </Col>
        <Col xs={24} lg={8}>
          <Sums title="By kind" rows={told.kinds.slice(0, 20)} />
        </Col>
        <Col xs={24} lg={8}>
          <Card size="small" title="The largest files">
            <DataTable
              rowKey="key_id"
              rows={told.largest.slice(0, 20)}
              columns={[
                {
                  title: 'File',
                  dataIndex: 'key',
                  render: (key: string) => (
                    <Typography.Text code style={{ overflowWrap: 'anywhere' }}>
                      {key}
                    </Typography.Text>
                  ),
                },
                {
                  title: 'Size',
                  width: 90,
                  align: 'right',
                  render: (_, row) => <Bytes n={row.bytes} />,
                },
              ]}
            />
          </Card>
        </Col>
      </Row>
    </Flex>
  )
}

/** Where one stands, each folder above a link. */
function Way({ path }: { path: string }) {
  const names = path.split('/').slice(0, -1)
  const items = [
    { title: <Link to="?">the whole</Link> },
    ...names.map((name, n) => {
      const to = names.slice(0, n + 1).join('/') + '/'
      return { title: <Link to={`?folder=${encodeURIComponent(to)}`}>{name}</Link> }
    }),
  ]
  return <Breadcrumb items={items} />
}

function Folders({ told, folder }: { told: Inventory; folder: FolderSum }) {
  const [others = 0, files = 0, bytes = 0] = folder.others
  const inner = told.inside.reduce((sum, one) => sum + one.objects, files)
  return (
    <>
      <DataTable<FolderSum>
        rowKey="key_id"
        rows={told.inside}
        empty="No folder lies here, or what lies deeper is not told apart: take an inventory of just this folder."
        columns={[
          {
            title: 'Folder',
            render: (_, one) => (
              <Link to={`?folder=${encodeURIComponent(one.key_id)}`} style={UNDERLINED}>
                {one.key.slice(folder.key.length)}
              </Link>
            ),
          },
          { title: 'Files', width: 110, align: 'right', render: (_, one) => count(one.objects) },
          {
            title: 'Bytes',
            width: 110,
            align: 'right',
            render: (_, one) => <Bytes n={one.bytes} />,
          },
          {
            title: 'Newest',
            width: 150,
            render: (_, one) =>
              one.newest_ns ? <Ago at={new Date(one.newest_ns / 1e6).toISOString()} /> : '–',
          },
        ]}
      />
      <Typography.Paragraph type="secondary" style={{ marginTop: 8 }}>
        {others > 0 && (
          <>
            And {count(others)} smaller folders with {count(files)} files, <Bytes n={bytes} />.{' '}
          </>
        )}
        {folder.objects > inner && `${count(folder.objects - inner)} files lie directly here.`}
      </Typography.Paragraph>
    </>
  )
}

interface SumsProps {
  title: string
  rows: Inventory['ages']
}

function Sums({ title, rows }: SumsProps) {
  return (
    <Card size="small" title={title}>
      <DataTable
        rowKey="name"
        rows={rows}
        columns={[
          { title: '', dataIndex: 'name' },
          { title: 'Files', align: 'right', render: (_, one) => count(one.objects) },
          { title: 'Bytes', align: 'right', render: (_, one) => <Bytes n={one.bytes} /> },
        ]}
      />
    </Card>
  )
}

/** Counts a place, and goes to what is counted. */
export function TakeInventory({ location, word }: { location: string; word: string }) {
  const go = useNavigate()
  const take = useMutation({
    mutationFn: () => got(api.POST('/api/v1/inventories', { body: { location } })),
    onSuccess: (run) => go(`/inventories/${run.id}`),
  })
  return (
    <>
      <Button onClick={() => take.mutate()} loading={take.isPending}>
        {word}
      </Button>
      {take.error && <Failed error={take.error} />}
    </>
  )
}
