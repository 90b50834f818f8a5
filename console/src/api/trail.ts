import { infiniteQueryOptions, queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

const PAGE = 100

export interface TrailAsked {
  who?: string
  what?: string
  which?: string
  since?: string
  until?: string
}

/** Who did what, newest first. */
export const trailQuery = (asked: TrailAsked) =>
  infiniteQueryOptions({
    queryKey: ['trail', asked],
    queryFn: ({ pageParam }) =>
      got(
        api.GET('/api/v1/trail', {
          params: { query: { ...asked, limit: PAGE, ...(pageParam ? { before: pageParam } : {}) } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (page) => (page.length === PAGE ? page[page.length - 1]!.id : undefined),
  })

/** A file, anywhere, any time. */
export const findQuery = (name: string) =>
  queryOptions({
    queryKey: ['find', name],
    queryFn: () => got(api.GET('/api/v1/find', { params: { query: { name } } })),
  })
