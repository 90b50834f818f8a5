import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Flex, Popconfirm } from 'antd'
import { Link, useNavigate } from 'react-router'
import { api, got, type Store } from '../../api/client'
import { runsQuery } from '../../api/runs'
import { place } from '../../lib/words'
import { Failed, useMay } from '../../parts/parts'

/** Try it, change it, forget it; let what waits for its key go on. */
export function StoreActions({ store }: { store: Store }) {
  const queries = useQueryClient()
  const go = useNavigate()
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
    onSuccess: async () => {
      await again()
      void go('/stores')
    },
  })
  return (
    <Flex gap={4} wrap>
      {mayTry && (
        <Button onClick={() => tried.mutate()} loading={tried.isPending}>
          Try
        </Button>
      )}
      {mayChange && (
        <>
          <Link to={`/stores/${store.name}/change`}>
            <Button>Change</Button>
          </Link>
          <Popconfirm
            title={`Forget ${store.name} and its key?`}
            description="Nothing in it is touched."
            okText="Forget it"
            onConfirm={() => drop.mutate()}
          >
            <Button danger>Drop</Button>
          </Popconfirm>
        </>
      )}
      {waiting.length > 0 && (
        <Button type="primary" onClick={() => goOn.mutate()} loading={goOn.isPending}>
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
