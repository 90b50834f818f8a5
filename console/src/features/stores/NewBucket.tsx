import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button, Flex, Input, Space, Typography } from 'antd'
import { useState } from 'react'
import { api, got } from '../../api/client'
import { bucketsQuery } from '../../api/stores'
import { bucketProblem } from '../../lib/words'
import { Failed, useMay } from '../../parts/parts'

interface Props {
  store: string
  onMade?: (bucket: string) => void
}

/** Makes a bucket, and tells whether it was there already. */
export function NewBucket({ store, onMade }: Props) {
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
    onSuccess: async ({ bucket }) => {
      setWanted('')
      await queries.invalidateQueries(bucketsQuery(store))
      await queries.invalidateQueries({ queryKey: ['browse', store] })
      onMade?.(bucket)
    },
  })
  if (!mayDefine) return null
  return (
    <Flex vertical gap={4} style={{ marginBlock: 12, maxWidth: 480 }}>
      <Space.Compact>
        <Input
          aria-label="New bucket"
          placeholder="Name of a new bucket"
          value={wanted}
          onChange={(event) => setWanted(event.target.value)}
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
      {make.error && <Failed error={make.error} />}
    </Flex>
  )
}
