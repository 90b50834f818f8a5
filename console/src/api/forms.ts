import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

/** What there is to fill in: the service tells it once. */
export const formsQuery = () =>
  queryOptions({
    queryKey: ['forms'],
    queryFn: () => got(api.GET('/api/v1/forms')),
    staleTime: Infinity,
  })
