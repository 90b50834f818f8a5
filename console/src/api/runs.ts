import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

interface Which {
  job?: string
  state?: string
  limit?: number
}

export const runsQuery = ({ job = '', state = '', limit = 100 }: Which) =>
  queryOptions({
    queryKey: ['runs', { job, state, limit }],
    queryFn: () => got(api.GET('/api/v1/runs', { params: { query: { job, state, limit } } })),
  })

export const runQuery = (number: number) =>
  queryOptions({
    queryKey: ['run', number],
    queryFn: () => got(api.GET('/api/v1/runs/{number}', { params: { path: { number } } })),
  })

export const previewQuery = (number: number) =>
  queryOptions({
    queryKey: ['preview', number],
    queryFn: () => got(api.GET('/api/v1/previews/{number}', { params: { path: { number } } })),
  })

export const auditQuery = (number: number) =>
  queryOptions({
    queryKey: ['audit', number],
    queryFn: () => got(api.GET('/api/v1/audits/{number}', { params: { path: { number } } })),
  })

export const logQuery = (number: number) =>
  queryOptions({
    queryKey: ['log', number],
    queryFn: () =>
      got(
        api.GET('/api/v1/runs/{number}/log', {
          params: { path: { number }, query: { limit: 10000 } },
        }),
      ),
  })
