import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

export const jobsQuery = () =>
  queryOptions({ queryKey: ['jobs'], queryFn: () => got(api.GET('/api/v1/jobs')) })

export const jobQuery = (name: string) =>
  queryOptions({
    queryKey: ['jobs', name],
    queryFn: () => got(api.GET('/api/v1/jobs/{name}', { params: { path: { name } } })),
  })

/** A job as it was when its form was opened: what is typed isn't overtaken. */
export const jobFormQuery = (name: string) =>
  queryOptions({
    ...jobQuery(name),
    queryKey: ['jobs', name, 'form'],
    enabled: !!name,
    staleTime: Infinity,
  })
