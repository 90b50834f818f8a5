import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

export const sessionQuery = () =>
  queryOptions({
    queryKey: ['session'],
    queryFn: () => got(api.GET('/api/v1/session')),
    staleTime: 60_000,
  })
