import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, got } from './client'
import type { paths } from './schema'

export type JobsWanted = NonNullable<paths['/api/v1/jobs']['get']['parameters']['query']>

/** A page of jobs, sought and sorted by the service. */
export const jobsQuery = (wanted: JobsWanted = {}) =>
  queryOptions({
    queryKey: ['jobs', 'list', wanted],
    queryFn: () => got(api.GET('/api/v1/jobs', { params: { query: wanted } })),
    placeholderData: keepPreviousData,
  })

/** What starts by itself within so many days. */
export const scheduleQuery = (days: number) =>
  queryOptions({
    queryKey: ['schedule', days],
    queryFn: () => got(api.GET('/api/v1/schedule', { params: { query: { days } } })),
    placeholderData: keepPreviousData,
  })

/** What starts jobs besides the clock, and what came of it; or only one job's. */
export const triggersQuery = (job = '') =>
  queryOptions({
    queryKey: ['triggers', job],
    queryFn: () => got(api.GET('/api/v1/triggers', { params: { query: { job } } })),
  })

export const jobQuery = (name: string) =>
  queryOptions({
    queryKey: ['jobs', name],
    queryFn: () => got(api.GET('/api/v1/jobs/{name}', { params: { path: { name } } })),
  })

/** Every definition a job had, and what each changed. */
export const versionsQuery = (name: string) =>
  queryOptions({
    queryKey: ['jobs', name, 'versions'],
    queryFn: () => got(api.GET('/api/v1/jobs/{name}/versions', { params: { path: { name } } })),
  })

/** Why a file of a job is carried, or isn't. */
export const explainQuery = (name: string, key: string) =>
  queryOptions({
    queryKey: ['jobs', name, 'explain', key],
    queryFn: () =>
      got(api.GET('/api/v1/jobs/{name}/explain', { params: { path: { name }, query: { key } } })),
  })

/** A job as it was when its form was opened: what is typed isn't overtaken. */
export const jobFormQuery = (name: string) =>
  queryOptions({
    ...jobQuery(name),
    queryKey: ['jobs', name, 'form'],
    enabled: !!name,
    staleTime: Infinity,
  })
