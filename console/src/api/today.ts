import { queryOptions } from '@tanstack/react-query'
import { api, got } from './client'

export const todayQuery = () =>
  queryOptions({ queryKey: ['today'], queryFn: () => got(api.GET('/api/v1/today')) })
