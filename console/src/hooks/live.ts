import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { type Progress, type Run } from '../api/client'
import { runQuery } from '../api/runs'

/** A clock that ticks, for ages. */
export function useNow(everyMs = 5000): number {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), everyMs)
    return () => clearInterval(timer)
  }, [everyMs])
  return now
}

const MOST_POINTS = 600

/** Seconds by this page's clock, bytes, objects: as far as it was watched. */
function wentOn(course: number[][], { done }: Progress): number[][] {
  const point = [performance.now() / 1000, done.bytes, done.objects]
  return [...course, point].slice(-MOST_POINTS)
}

/** A run, and its progress as it comes: server-sent events while it lives. */
export function useRun(id: number) {
  const queries = useQueryClient()
  const run = useQuery({
    ...runQuery(id),
    refetchInterval: (q) => (q.state.data?.state === 'ended' ? false : 2000),
  })
  const [progress, setProgress] = useState<Progress | null>(null)
  const [course, setCourse] = useState<number[][]>([])
  const [quiet, setQuiet] = useState(false)
  const [heardAt, setHeardAt] = useState<string | null>(null)
  const ended = run.data?.state === 'ended'
  const known = run.data !== undefined
  useEffect(() => {
    if (!known || ended) return
    const stream = new EventSource(`/api/v1/runs/${id}/events`)
    stream.addEventListener('progress', (e) => {
      setQuiet(false)
      setHeardAt(new Date().toISOString())
      const told = JSON.parse(e.data as string) as Progress
      setProgress(told)
      setCourse((before) => wentOn(before, told))
    })
    stream.addEventListener('state', (e) => {
      setQuiet(false)
      const told = JSON.parse(e.data as string) as Run
      queries.setQueryData(runQuery(id).queryKey, (old) => old && { ...old, ...told })
      if (told.state === 'ended') {
        stream.close()
        void queries.invalidateQueries()
      }
    })
    stream.onerror = () => setQuiet(true)
    return () => stream.close()
  }, [id, ended, known, queries])
  return {
    ...run,
    progress: progress ?? run.data?.progress ?? null,
    course,
    quiet,
    heardAt: heardAt ?? run.data?.told_at ?? null,
  }
}
