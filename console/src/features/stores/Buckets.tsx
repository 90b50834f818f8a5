import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Popconfirm, Tag, Typography } from 'antd'
import { Link } from 'react-router'
import { api, got } from '../../api/client'
import { bucketsQuery } from '../../api/stores'
import { Failed, Loaded, useMay } from '../../parts/parts'
import { DataTable } from '../../parts/DataTable'
import { NewBucket } from './NewBucket'

/** The buckets of a store: which are empty, which no job uses; make one, drop an empty one. */
export function Buckets({ name }: { name: string }) {
  const mayAdminister = useMay('administer')
  const queries = useQueryClient()
  const query = useQuery(bucketsQuery(name))
  const again = () => queries.invalidateQueries(bucketsQuery(name))
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
      <NewBucket store={name} />
      {drop.error && <Failed error={drop.error} />}
      <Loaded query={query}>
        {(rows) => (
          <DataTable
            rowKey="name"
            rows={rows}
            empty="This key sees no bucket. Make one above."
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
