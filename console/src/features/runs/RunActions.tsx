import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Button, Flex, Input, Space } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, got, type RunWhole } from '../../api/client'
import { Failed, useMay } from '../../parts/parts'

const OVER = ['ended', 'held']

/** What a person can do with a run now. */
export function RunActions({ run }: { run: RunWhole }) {
  const mayOperate = useMay('operate')
  const mayDefine = useMay('define')
  const go = useNavigate()
  const queries = useQueryClient()
  const path = { number: run.id }
  const again = () => queries.invalidateQueries()
  const stop = useMutation({
    mutationFn: (atOnce: boolean) =>
      got(api.POST('/api/v1/runs/{number}/stop', { params: { path }, body: { at_once: atOnce } })),
    onSuccess: again,
  })
  const pause = useMutation({
    mutationFn: () => got(api.POST('/api/v1/runs/{number}/pause', { params: { path } })),
    onSuccess: again,
  })
  const resume = useMutation({
    mutationFn: () => got(api.POST('/api/v1/runs/{number}/resume', { params: { path } })),
    onSuccess: again,
  })
  const retry = useMutation({
    mutationFn: () => got(api.POST('/api/v1/runs/{number}/retry', { params: { path } })),
    onSuccess: (told) => go(`/runs/${told.id}`),
  })
  const undo = useMutation({
    mutationFn: () =>
      got(api.POST('/api/v1/runs/{number}/undo', { params: { path }, body: { preview: true } })),
    onSuccess: (told) => go(`/previews/${told.id}`),
  })
  if (!mayOperate) return null
  const error = [stop, pause, resume, retry, undo].map((m) => m.error).find(Boolean)
  const failed = run.state === 'ended' && ['problems', 'failed', 'stopped'].includes(run.outcome)
  return (
    <Flex vertical gap={8} align="end">
      <Flex gap={8} wrap>
        {run.state === 'paused' && (
          <Button type="primary" onClick={() => resume.mutate()} loading={resume.isPending}>
            Go on
          </Button>
        )}
        {!OVER.includes(run.state) && run.state !== 'paused' && (
          <Button
            onClick={() => pause.mutate()}
            disabled={run.pause_wanted}
            loading={pause.isPending}
          >
            {run.pause_wanted ? 'Pausing…' : 'Pause'}
          </Button>
        )}
        {!OVER.includes(run.state) && (
          <Button onClick={() => stop.mutate(run.stop_wanted)} loading={stop.isPending}>
            {run.stop_wanted ? 'Stopping… Stop at once' : 'Stop'}
          </Button>
        )}
        {failed && (
          <Button type="primary" onClick={() => retry.mutate()} loading={retry.isPending}>
            Try again
          </Button>
        )}
        {run.undoable && (
          <Button onClick={() => undo.mutate()} loading={undo.isPending}>
            Undo…
          </Button>
        )}
        {run.state === 'ended' && run.job === 'carry' && run.kind === 'transfer' && mayDefine && (
          <Keep run={run} />
        )}
      </Flex>
      {error && <Failed error={error} />}
    </Flex>
  )
}

/** A copy that worked is kept as a job in one action. */
function Keep({ run }: { run: RunWhole }) {
  const go = useNavigate()
  const [name, setName] = useState('')
  const keep = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/runs/{number}/keep', {
          params: { path: { number: run.id } },
          body: { job: name },
        }),
      ),
    onSuccess: (job) => go(`/jobs/${job.job}`),
  })
  return (
    <Flex vertical gap={8}>
      <Space.Compact>
        <Input
          aria-label="Job name"
          placeholder="name-of-the-job"
          value={name}
          onChange={(e) => setName(e.target.value)}
          onPressEnter={() => keep.mutate()}
        />
        <Button
          type="primary"
          onClick={() => keep.mutate()}
          loading={keep.isPending}
          disabled={!name}
        >
          Keep as a job
        </Button>
      </Space.Compact>
      {keep.error && <Failed error={keep.error} />}
    </Flex>
  )
}
