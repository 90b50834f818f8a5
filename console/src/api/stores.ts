import { infiniteQueryOptions, queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

export const storesQuery = () =>
  queryOptions({ queryKey: ['stores'], queryFn: () => got(api.GET('/api/v1/stores')) })

/** A store as it was when its form was opened: what is typed isn't overtaken. */
export const storeFormQuery = (name: string) =>
  queryOptions({
    queryKey: ['stores', name],
    queryFn: () => got(api.GET('/api/v1/stores/{name}', { params: { path: { name } } })),
    enabled: !!name,
    staleTime: Infinity,
  })

export const bucketsQuery = (name: string) =>
  queryOptions({
    queryKey: ['buckets', name],
    queryFn: () => got(api.GET('/api/v1/stores/{name}/buckets', { params: { path: { name } } })),
  })

interface Below {
  name: string
  path: string
  all: boolean
  match: string
}

export const browseQuery = ({ name, path, all, match }: Below) =>
  infiniteQueryOptions({
    queryKey: ['browse', name, { path, all, match }],
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      got(
        api.GET('/api/v1/stores/{name}/browse', {
          params: { path: { name }, query: { path, after: pageParam, all, match, limit: 200 } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  })

/** One level of a folder that is unfolded in a tree. */
export const branchQuery = (name: string, path: string, limit: number) =>
  queryOptions({
    queryKey: ['browse', name, { path, limit }],
    queryFn: () =>
      got(
        api.GET('/api/v1/stores/{name}/browse', {
          params: { path: { name }, query: { path, limit } },
        }),
      ),
  })

export const headQuery = (name: string, path: string) =>
  queryOptions({
    queryKey: ['head', name, path],
    queryFn: () =>
      got(api.GET('/api/v1/stores/{name}/head', { params: { path: { name }, query: { path } } })),
  })

export const versionsQuery = (name: string, path: string) =>
  queryOptions({
    queryKey: ['versions', name, path],
    queryFn: () =>
      got(
        api.GET('/api/v1/stores/{name}/versions', { params: { path: { name }, query: { path } } }),
      ),
  })

/** How much lies below: counted only when it is asked for, since it lists everything. */
export const totalsQuery = (name: string, path: string) =>
  queryOptions({
    queryKey: ['totals', name, path],
    enabled: false,
    queryFn: async () => {
      let after = ''
      let objects = 0
      let bytes = 0
      do {
        const page = await got(
          api.GET('/api/v1/stores/{name}/browse', {
            params: { path: { name }, query: { path, after, all: true, limit: 5000 } },
          }),
        )
        objects += page.entries.length
        bytes += page.entries.reduce((n, e) => n + (e.bytes ?? 0), 0)
        after = page.next
      } while (after)
      return { objects, bytes }
    },
  })

export const sidesQuery = (here: string, there: string, different: boolean) =>
  infiniteQueryOptions({
    queryKey: ['sides', here, there, different],
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      got(
        api.GET('/api/v1/sides', {
          params: { query: { here, there, after: pageParam, different } },
        }),
      ),
    getNextPageParam: (last) => last.next || undefined,
  })

/** A folder of an inventory (its key_id; empty: the place itself), with what lies directly in it. */
export const inventoryQuery = (number: number, folder: string) =>
  queryOptions({
    queryKey: ['inventory', number, folder],
    queryFn: () =>
      got(
        api.GET('/api/v1/inventories/{number}', {
          params: { path: { number }, query: { folder } },
        }),
      ),
  })

export const inventoriesQuery = () =>
  queryOptions({
    queryKey: ['inventories'],
    queryFn: () => got(api.GET('/api/v1/inventories', { params: { query: { limit: 200 } } })),
  })
