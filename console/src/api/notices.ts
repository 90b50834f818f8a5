import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

/** Who is told of what. */
export const noticesQuery = () =>
  queryOptions({ queryKey: ['notices'], queryFn: () => got(api.GET('/api/v1/notices')) })

/** What was told to whom, and what is still on its way. */
export const deliveriesQuery = () =>
  queryOptions({
    queryKey: ['deliveries'],
    queryFn: () => got(api.GET('/api/v1/deliveries', { params: { query: { limit: 100 } } })),
    refetchInterval: 5000,
  })

/** Where e-mail is handed in. */
export const mailQuery = () =>
  queryOptions({ queryKey: ['mail'], queryFn: () => got(api.GET('/api/v1/mail')) })
