import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

export const todayQuery = () =>
  queryOptions({ queryKey: ['today'], queryFn: () => got(api.GET('/api/v1/today')) })

/** The last 24 hours, what was carried a day, the stores. */
export const pictureQuery = () =>
  queryOptions({
    queryKey: ['today', 'picture'],
    queryFn: () => got(api.GET('/api/v1/today/picture')),
    refetchInterval: 15_000,
  })
