import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

export const peopleQuery = () =>
  queryOptions({ queryKey: ['people'], queryFn: () => got(api.GET('/api/v1/people')) })

export const sessionsQuery = (everybodys: boolean) =>
  queryOptions({
    queryKey: ['sessions', everybodys],
    queryFn: () => got(api.GET('/api/v1/sessions', { params: { query: { everybodys } } })),
  })

export const tokensQuery = (everybodys: boolean) =>
  queryOptions({
    queryKey: ['tokens', everybodys],
    queryFn: () => got(api.GET('/api/v1/tokens', { params: { query: { everybodys } } })),
  })
