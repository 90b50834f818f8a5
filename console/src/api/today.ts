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

/** What runs came to week by week, the newest first. */
export const weeksQuery = (job: string) =>
  queryOptions({
    queryKey: ['weeks', job],
    queryFn: () => got(api.GET('/api/v1/weeks', { params: { query: { job, weeks: 8 } } })),
  })
