import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

/** What holds for the whole service. */
export const settingsQuery = () =>
  queryOptions({
    queryKey: ['settings'],
    queryFn: () => got(api.GET('/api/v1/settings')),
  })

/** What takes how much room in the state folder. */
export const roomQuery = () =>
  queryOptions({ queryKey: ['room'], queryFn: () => got(api.GET('/api/v1/room')) })
