import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Flex, Input, Popconfirm, Space, Tag, Typography } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, got } from '../../api/client'
import { bucketsQuery } from '../../api/stores'
import { bucketProblem } from '../../lib/words'
import { Failed, Loaded, useMay } from '../../parts/parts'
import { DataTable } from '../../parts/DataTable'

/** The buckets of a store: which are empty, which no job uses; make one, drop an empty one. */
export function Buckets({ name }: { name: string }) {
  const mayDefine = useMay('define')
  const mayAdminister = useMay('administer')
  const queries = useQueryClient()
  const [wanted, setWanted] = useState('')
  const wrong = wanted ? bucketProblem(wanted) : ''
  const query = useQuery(bucketsQuery(name))
  const again = () => queries.invalidateQueries(bucketsQuery(name))
  const make = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/stores/{name}/buckets', {
          params: { path: { name } },
          body: { bucket: wanted },
        }),
      ),
    onSuccess: () => {
      setWanted('')
      return again()
    },
  })
  const drop = useMutation({
    mutationFn: (bucket: string) =>
      got(
        api.DELETE('/api/v1/stores/{name}/buckets/{bucket}', {
          params: { path: { name, bucket } },
        }),
      ),
    onSuccess: again,
  })
  return (
    <>
      {mayDefine && (
        <Flex vertical gap={4} style={{ marginBottom: 16, maxWidth: 480 }}>
          <Space.Compact>
            <Input
              aria-label="New bucket"
              placeholder="Name of a new bucket"
              value={wanted}
              onChange={(e) => setWanted(e.target.value)}
              status={wrong ? 'error' : ''}
            />
            <Button
              onClick={() => make.mutate()}
              disabled={!wanted || !!wrong}
              loading={make.isPending}
            >
              Make bucket
            </Button>
          </Space.Compact>
          {wrong && (
            <Typography.Text type="danger" role="status">
              {wrong}
            </Typography.Text>
          )}
          {make.data && (
            <Typography.Text role="status">
              {make.data.made
                ? `Made ${make.data.bucket}.`
                : `${make.data.bucket} was there already; nothing changed.`}
            </Typography.Text>
          )}
        </Flex>
      )}
      {(make.error ?? drop.error) && <Failed error={make.error ?? drop.error} />}
      <Loaded query={query}>
        {(rows) => (
          <DataTable
            rowKey="name"
            rows={rows}
            locale={{ emptyText: 'This key sees no bucket. Make one above.' }}
            columns={[
              {
                title: 'Bucket',
                render: (_, b) => (
                  <Link to={`/stores/${name}?path=${encodeURIComponent(`${b.name}/`)}`}>
                    <Typography.Text code style={{ color: 'inherit' }}>
                      {b.name}
                    </Typography.Text>
                  </Link>
                ),
              },
              {
                title: '',
                width: 170,
                render: (_, b) => (
                  <>
                    {b.empty && <Tag>empty</Tag>}
                    {b.jobs.length === 0 && <Tag>no job uses it</Tag>}
                    {b.empty == null && <Tag>may not be listed</Tag>}
                  </>
                ),
              },
              {
                title: 'Used by',
                responsive: ['md'],
                render: (_, b) =>
                  b.jobs.map((j) => (
                    <Link key={j} to={`/jobs/${j}`} style={{ marginInlineEnd: 8 }}>
                      {j}
                    </Link>
                  )),
              },
              {
                title: '',
                width: 90,
                render: (_, b) =>
                  b.empty &&
                  mayAdminister && (
                    <Popconfirm
                      title={`Drop the empty bucket ${b.name}?`}
                      okText={`Drop ${b.name}`}
                      cancelText="Keep it"
                      onConfirm={() => drop.mutate(b.name)}
                    >
                      <Button size="small">Drop</Button>
                    </Popconfirm>
                  ),
              },
            ]}
          />
        )}
      </Loaded>
    </>
  )
}
