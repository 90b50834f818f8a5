import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

interface Which {
  job?: string
  state?: string
  since?: string
  until?: string
  only?: 'transfer' | 'undo' | 'expiry'
  limit?: number
}

export const runsQuery = (which: Which) => {
  const query = { job: '', state: '', limit: 100, ...which }
  return queryOptions({
    queryKey: ['runs', query],
    queryFn: () => got(api.GET('/api/v1/runs', { params: { query } })),
  })
}

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

/** One level of a preview: its folders with their counts, and the first of its own files. */
export const levelQuery = (number: number, leg: number, prefix: string, most: number) =>
  queryOptions({
    queryKey: ['preview', number, 'level', leg, prefix],
    queryFn: async () => {
      const path = { number }
      const query = { leg, prefix }
      const [folders, files] = await Promise.all([
        got(api.GET('/api/v1/previews/{number}/folders', { params: { path, query } })),
        got(
          api.GET('/api/v1/previews/{number}/objects', {
            params: { path, query: { ...query, level: true, limit: most } },
          }),
        ),
      ])
      return { folders, files }
    },
  })

export const auditQuery = (number: number) =>
  queryOptions({
    queryKey: ['audit', number],
    queryFn: () => got(api.GET('/api/v1/audits/{number}', { params: { path: { number } } })),
  })

/** What a run carried and another didn't; the one before it, without. */
export const compareQuery = (number: number, other?: number) =>
  queryOptions({
    queryKey: ['compare', number, other],
    queryFn: () =>
      got(
        api.GET('/api/v1/runs/{number}/compare', {
          params: { path: { number }, query: other ? { other } : {} },
        }),
      ),
  })

/** Audits, the newest first. */
export const auditsQuery = () =>
  queryOptions({
    queryKey: ['audits'],
    queryFn: () => got(api.GET('/api/v1/audits', { params: { query: { limit: 100 } } })),
  })

export interface LogAsked {
  level: 'info' | 'warning' | 'error'
  text: string
}

/** A run's log from where one stands: what comes after `after`. */
export const logAfter = (number: number, after: number, asked: LogAsked) =>
  got(
    api.GET('/api/v1/runs/{number}/log', {
      params: { path: { number }, query: { after, limit: 2000, ...asked } },
    }),
  )
