import { useMutation, useQuery } from '@tanstack/react-query'
import { Button, Card, Flex, Input, Segmented, Typography } from 'antd'
import { useState } from 'react'
import { useNavigate, useParams } from 'react-router'
import { api, got, type Preview } from '../../api/client'
import { previewQuery } from '../../api/runs'
import { FilesTable } from '../../parts/FilesTable'
import { isOneOff, count, size, span } from '../../lib/words'
import { DecisionTree } from './DecisionTree'
import { Failed, FromTo, JobName, Loaded, PageHead, useMay } from '../../parts/parts'

/** The dangerous ones first. */
const ORDER = ['remove', 'clear', 'replace', 'copy', 'refuse'] as const
const WORDS: Record<(typeof ORDER)[number], string> = {
  remove: 'Remove',
  clear: 'Clear at the source',
  replace: 'Replace',
  copy: 'Copy',
  refuse: 'Refuse',
}

export default function PreviewPage() {
  const number = Number(useParams().id)
  const query = useQuery({
    ...previewQuery(number),
    refetchInterval: (q) => (q.state.data?.state === 'ended' ? false : 700),
  })
  const [show, setShow] = useState<string | null>(null)
  const [text, setText] = useState('')
  const [isTree, setTree] = useState(true)
  const views = (
    <Segmented
      aria-label="View"
      value={isTree}
      onChange={setTree}
      options={[
        { value: true, label: 'By folder' },
        { value: false, label: 'As a list' },
      ]}
    />
  )
  const totals = query.data?.totals
  const kinds = totals
    ? [
        ...ORDER.filter((d) => totals[d].objects).map((d) => ({
          value: d,
          label: `${WORDS[d]} ${count(totals[d].objects)}`,
        })),
        { value: '', label: 'All' },
      ]
    : []
  const shown = show ?? kinds[0]?.value ?? ''
  return (
    <Loaded query={query}>
      {(told) => (
        <>
          <PageHead title={told.state === 'ended' ? told.sentence : 'Working the preview out…'}>
            <JobName job={told.job} />
            {told.state === 'ended' && told.of != null && <Undo of={told.of} />}
            {told.state === 'ended' && <Exports of={number} />}
            {told.state === 'ended' && told.of == null && !isOneOff(told.job) && (
              <Start job={told.job} />
            )}
            {told.state === 'ended' && told.of == null && told.outcome !== 'failed' && (
              <Exactly preview={number} />
            )}
          </PageHead>
          {told.legs.map((leg) => (
            <div key={leg.to} style={{ marginBottom: 12 }}>
              <FromTo from={leg.from} to={leg.to} />
            </div>
          ))}
          <Estimated estimate={told.estimate} />
          {told.cautions.map((words) => (
            <Typography.Paragraph key={words} type="secondary" style={{ marginBottom: 4 }}>
              ○ {words}
            </Typography.Paragraph>
          ))}
          <Largest files={told.largest} />
          {told.message && (
            <Typography.Paragraph type="warning">▲ {told.message}</Typography.Paragraph>
          )}
          {told.state === 'ended' && isTree && (
            <Card size="small" title="What would be done, by folder" extra={views}>
              {told.legs.map((leg, n) => (
                <div key={leg.to}>
                  {told.legs.length > 1 && <FromTo from={leg.from} to={leg.to} />}
                  <DecisionTree preview={number} leg={n + 1} />
                </div>
              ))}
            </Card>
          )}
          {told.state === 'ended' && !isTree && (
            <Card
              size="small"
              title="What would be done"
              extra={
                <Flex gap={8} wrap>
                  <Input.Search
                    aria-label="Part of a name"
                    allowClear
                    placeholder="Part of a name"
                    onSearch={setText}
                    style={{ width: 180 }}
                  />
                  <Segmented aria-label="Show" value={shown} onChange={setShow} options={kinds} />
                  {views}
                </Flex>
              }
            >
              <FilesTable
                of={['preview', number, shown, text]}
                job={isOneOff(told.job) ? undefined : told.job}
                empty="Nothing would be copied, replaced or removed: both sides are as they should be."
                page={(after) =>
                  got(
                    api.GET('/api/v1/previews/{number}/objects', {
                      params: {
                        path: { number },
                        query: { after, limit: 200, decision: shown, text },
                      },
                    }),
                  )
                }
              />
            </Card>
          )}
        </>
      )}
    </Loaded>
  )
}

/** All of it as a file. */
function Exports({ of }: { of: number }) {
  const at = `/api/v1/runs/${of}/report?as=`
  return (
    <span>
      <a href={`${at}csv`}>CSV</a> · <a href={`${at}jsonl`}>JSON lines</a>
    </span>
  )
}

/** What the run would take: time by the job's past, requests, and their price. */
function Estimated({ estimate }: { estimate: Preview['estimate'] }) {
  const { seconds, by_runs, stores } = estimate
  const words = stores.map(
    (s) => `${count(s.requests)} requests to ${s.store}${s.cost == null ? '' : `, at ${s.cost}`}`,
  )
  if (seconds != null)
    words.unshift(
      `about ${span(Math.max(1, seconds))}, by ${by_runs} ${by_runs === 1 ? 'run' : 'runs'} of it`,
    )
  if (!words.length) return null
  return (
    <Typography.Paragraph type="secondary">It would take {words.join(' · ')}.</Typography.Paragraph>
  )
}

/** What weighs most of it. */
function Largest({ files }: { files: Preview['largest'] }) {
  if (files.length < 2) return null
  return (
    <Typography.Paragraph type="secondary">
      The largest:{' '}
      {files.map((file, n) => (
        <span key={file.id}>
          {n > 0 && ' · '}
          <Typography.Text code>{file.key}</Typography.Text> {size(file.bytes)}
        </span>
      ))}
    </Typography.Paragraph>
  )
}

/** What was seen here and nothing else; what is no longer so is left, and listed. */
function Exactly({ preview }: { preview: number }) {
  const go = useNavigate()
  const mayOperate = useMay('operate')
  const start = useMutation({
    mutationFn: () =>
      got(api.POST('/api/v1/previews/{number}/start', { params: { path: { number: preview } } })),
    onSuccess: (run) => go(`/runs/${run.id}`),
  })
  if (!mayOperate) return null
  return (
    <>
      <Button type="primary" onClick={() => start.mutate()} loading={start.isPending}>
        Run exactly this
      </Button>
      {start.error && <Failed error={start.error} />}
    </>
  )
}

function Start({ job }: { job: string }) {
  const go = useNavigate()
  const mayOperate = useMay('operate')
  const start = useMutation({
    mutationFn: () =>
      got(api.POST('/api/v1/jobs/{name}/start', { params: { path: { name: job } } })),
    onSuccess: (run) => go(`/runs/${run.id}`),
  })
  if (!mayOperate) return null
  return (
    <>
      {start.error && <Failed error={start.error} />}
      <Button onClick={() => start.mutate()} loading={start.isPending}>
        Start it
      </Button>
    </>
  )
}

/** A preview of undoing a run leads to doing it. */
function Undo({ of }: { of: number }) {
  const go = useNavigate()
  const undo = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/runs/{number}/undo', {
          params: { path: { number: of } },
          body: { preview: false },
        }),
      ),
    onSuccess: (told) => go(`/runs/${told.id}`),
  })
  return (
    <>
      {undo.error && <Failed error={undo.error} />}
      <Button type="primary" onClick={() => undo.mutate()} loading={undo.isPending}>
        Undo run {of}
      </Button>
    </>
  )
}
