import { useQuery } from '@tanstack/react-query'
import { Card, Col, Flex, Progress as Bar, Row, Segmented, Statistic, Typography } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'
import { api, got, type Progress, type RunWhole } from '../../api/client'
import { formsQuery } from '../../api/forms'
import { useRun } from '../../hooks/live'
import { isOneOff, count, files, PROOFS, size, span } from '../../lib/words'
import { Ago, Bytes, FromTo, Loaded, Mark, PageHead, useToneColour } from '../../parts/parts'
import { UNDERLINED } from '../../parts/layout'
import { FilesTable } from '../../parts/FilesTable'
import { Held } from './Held'
import { RunLog } from './RunLog'
import { RatePicture } from './RatePicture'
import { RunActions } from './RunActions'
import { DataTable } from '../../parts/DataTable'

export default function RunPage() {
  const number = Number(useParams().id)
  return <OneRun key={number} number={number} /> // what came live is of this run alone
}

function OneRun({ number }: { number: number }) {
  const run = useRun(number)
  return (
    <Loaded query={run}>
      {(told) => (
        <>
          <PageHead title={<RunName run={told} />}>
            <RunActions run={told} />
          </PageHead>
          <Summary run={told} />
          {told.state === 'held' && <Held run={told} />}
          {!['ended', 'held', 'paused'].includes(told.state) && (
            <Live
              progress={run.progress}
              quiet={run.quiet}
              state={told.state}
              heardAt={run.heardAt}
            />
          )}
          {told.problem_groups.length > 0 && <Problems run={told} />}
          <RatePicture course={told.state === 'ended' ? told.course : run.course} />
          <Row gutter={[16, 16]}>
            <Col xs={24} lg={8}>
              <Totals run={told} />
              <Effort run={told} />
            </Col>
            <Col xs={24} lg={16}>
              <Below run={told} />
            </Col>
          </Row>
        </>
      )}
    </Loaded>
  )
}

function RunName({ run }: { run: RunWhole }) {
  const of = (
    <Link to={`/runs/${run.of}`} style={UNDERLINED}>
      run {run.of}
    </Link>
  )
  if (run.kind === 'undo')
    return (
      <>
        Run {run.id}, undoes {of}
      </>
    )
  if (run.kind === 'expiry')
    return (
      <>
        Run {run.id}, clears away what {of} set aside
      </>
    )
  if (run.job === 'carry') return <>Run {run.id}, a copy</>
  if (run.job === 'remove') return <>Run {run.id}, a removal</>
  return (
    <>
      Run {run.id} of{' '}
      <Link to={`/jobs/${run.job}`} style={UNDERLINED}>
        {run.job}
      </Link>
    </>
  )
}

function Summary({ run }: { run: RunWhole }) {
  const toneColour = useToneColour()
  const word = run.outcome || run.state
  return (
    <Card
      size="small"
      style={{ marginBottom: 16, borderInlineStart: `4px solid ${toneColour(word)}` }}
    >
      <Typography.Paragraph style={{ fontSize: 17, margin: 0 }} role="status">
        {['ended', 'held'].includes(run.state) ? (
          run.sentence
        ) : (
          <>
            <Mark word={word} strong />
            {run.message && `: ${run.message}`}
          </>
        )}
      </Typography.Paragraph>
      {run.unusual.map((words) => (
        <Typography.Paragraph key={words} style={{ margin: '4px 0 0' }}>
          ▲ Unusual: {words}
        </Typography.Paragraph>
      ))}
      <Flex gap={16} wrap style={{ marginTop: 6 }}>
        {run.legs.map((leg) => (
          <FromTo key={leg.to} from={leg.from} to={leg.to} />
        ))}
        <Typography.Text type="secondary">
          {run.cause} ·{' '}
          {run.ended_at ? (
            <>
              ended <Ago at={run.ended_at} />
            </>
          ) : (
            <>
              began <Ago at={run.started_at ?? run.queued_at} />
            </>
          )}
        </Typography.Text>
      </Flex>
    </Card>
  )
}

function Live({
  progress,
  quiet,
  state,
  heardAt,
}: {
  progress: Progress | null
  quiet: boolean
  state: string
  heardAt: string | null
}) {
  const announced = useAnnounced(progress)
  if (!progress)
    return (
      <Card size="small" style={{ marginBottom: 16 }}>
        {state === 'queued' ? 'It waits for its turn.' : 'It has just begun.'}
      </Card>
    )
  const { done, planned } = progress
  const least = progress.listing_complete ? '' : 'at least '
  const percent = planned.bytes
    ? (done.bytes / planned.bytes) * 100
    : planned.objects
      ? (done.objects / planned.objects) * 100
      : 0
  return (
    <Card size="small" style={{ marginBottom: 16 }}>
      <div aria-live="polite" style={{ position: 'absolute', left: -9999 }}>
        {announced}
      </div>
      <Bar percent={Math.floor(percent)} showInfo={false} aria-label="How much is done" />
      <Row gutter={[16, 8]}>
        <Col xs={12} md={6}>
          <Statistic
            title="Phase"
            value={progress.phases.at(-1) ?? 'starting'}
            valueStyle={{ fontSize: 18 }}
          />
        </Col>
        <Col xs={12} md={6}>
          <Statistic
            title={`Done of ${least}${files(planned.objects)}`}
            value={count(done.objects)}
            valueStyle={{ fontSize: 18, fontVariantNumeric: 'tabular-nums' }}
          />
        </Col>
        <Col xs={12} md={6}>
          <Statistic
            title={`Done of ${least}${size(planned.bytes)}`}
            value={size(done.bytes)}
            valueStyle={{ fontSize: 18, fontVariantNumeric: 'tabular-nums' }}
          />
        </Col>
        <Col xs={12} md={6}>
          <Statistic
            title={`${size(progress.rate_bytes)}/s`}
            value={
              progress.seconds_left == null ? '–' : `${least}${span(progress.seconds_left)} left`
            }
            valueStyle={{ fontSize: 18 }}
          />
        </Col>
      </Row>
      <Typography.Paragraph type="secondary" style={{ margin: '8px 0 0' }}>
        Remaining {files(Math.max(planned.objects - done.objects, 0))},{' '}
        {size(Math.max(planned.bytes - done.bytes, 0))} · looked at {count(progress.listed)},{' '}
        {count(progress.unchanged)} unchanged · last sign of life <Ago at={heardAt} />
        {progress.waits_for && <> · ▲ {progress.waits_for}</>}
        {quiet && <> · ▲ the line to the service is cut; trying again</>}
      </Typography.Paragraph>
      <ul style={{ listStyle: 'none', padding: 0, margin: '8px 0 0', minHeight: 132 }}>
        {progress.in_flight.map((f) => (
          <li
            key={f.key}
            style={{ whiteSpace: 'nowrap', overflow: 'hidden', textOverflow: 'ellipsis' }}
          >
            <Typography.Text code>{f.key}</Typography.Text> <Bytes n={f.bytes} />
          </li>
        ))}
      </ul>
    </Card>
  )
}

/** Told to screen readers at changes of phase and at each quarter, no oftener. */
function useAnnounced(progress: Progress | null): string {
  const [said, setSaid] = useState('')
  const last = useRef('')
  const quarter = progress?.planned.objects
    ? Math.floor((progress.done.objects / progress.planned.objects) * 4) * 25
    : 0
  const now = progress ? `${progress.phases.at(-1) ?? ''}, ${quarter} percent` : ''
  useEffect(() => {
    if (now !== last.current) {
      last.current = now
      setSaid(now)
    }
  }, [now])
  return said
}

function Problems({ run }: { run: RunWhole }) {
  return (
    <Card
      size="small"
      title={`▲ ${count(run.problems)} ${run.problems === 1 ? 'problem' : 'problems'}, by cause`}
      style={{ marginBottom: 16 }}
    >
      {run.problem_groups.map((group) => (
        <Flex key={group.code} justify="space-between" gap={12} style={{ padding: '6px 0' }}>
          <span>
            <b>{files(group.objects)}:</b> {group.message}{' '}
            <Typography.Text code>{group.code}</Typography.Text>
          </span>
          <Link to={`?show=problems`}>See them</Link>
        </Flex>
      ))}
    </Card>
  )
}

const WORDS: Record<string, string> = {
  copy: 'copied',
  replace: 'replaced',
  remove: 'removed',
  clear: 'cleared at the source',
  leave: 'left',
  refuse: 'refused',
}

function Totals({ run }: { run: RunWhole }) {
  const formats = useQuery(formsQuery()).data?.report_formats
  const rows = Object.entries(run.totals)
    .map(([decision, total]) => ({ decision, ...total }))
    .filter((row) => row.objects || row.decision === 'remove') // that nothing was removed is said
  return (
    <Card size="small" title="Totals">
      <DataTable
        rowKey="decision"
        rows={rows}
        showHeader={false}
        columns={[
          { dataIndex: 'decision', render: (d: string) => WORDS[d] },
          {
            dataIndex: 'objects',
            align: 'right',
            render: (n: number, { decision }) => (
              <span style={{ fontVariantNumeric: 'tabular-nums' }}>
                {n && decision !== 'leave' ? (
                  <Link to={`?show=files&decision=${decision}`} style={UNDERLINED}>
                    {count(n)}
                  </Link>
                ) : (
                  count(n)
                )}
              </span>
            ),
          },
          { dataIndex: 'bytes', align: 'right', render: (n: number) => <Bytes n={n} /> },
        ]}
      />
      {run.state === 'ended' && (
        <Flex gap={12} wrap style={{ marginTop: 12 }}>
          <span>Report:</span>
          {formats?.map((format) => (
            <a
              key={format.name}
              href={`/api/v1/runs/${run.id}/report?as=${format.name}`}
              target="_blank"
              rel="noreferrer"
            >
              {format.title}
            </a>
          ))}
          <a href={`/api/v1/runs/${run.id}/proof`} title="Names, sizes and checksums, signed">
            Signed proof
          </a>
          {!isOneOff(run.job) && (
            <Link to={`/runs/${run.id}/compare`}>Compared with the run before</Link>
          )}
        </Flex>
      )}
    </Card>
  )
}

/** How what was placed was proven; what the run took, by phase and in requests. */
function Effort({ run }: { run: RunWhole }) {
  const took = (seconds: number) =>
    seconds < 10 ? `${seconds.toFixed(2)} s` : span(Math.round(seconds))
  const rows = [
    ...Object.entries(run.proofs).map(([proof, n]) => [PROOFS[proof] ?? proof, count(n)]),
    ...Object.entries(run.effort.phases).map(([phase, s]) => [phase, took(s)]),
    ...Object.entries(run.effort.requests).map(([store, n]) => [`requests to ${store}`, count(n)]),
  ].map(([what = '', figure = '']) => ({ what, figure }))
  if (!rows.length) return null
  return (
    <Card size="small" title="How it was proven, and what it took" style={{ marginTop: 16 }}>
      <DataTable
        rowKey="what"
        rows={rows}
        showHeader={false}
        columns={[{ dataIndex: 'what' }, { dataIndex: 'figure', align: 'right', width: 110 }]}
      />
    </Card>
  )
}

function Below({ run }: { run: RunWhole }) {
  const [asked, setAsked] = useSearchParams()
  const show = asked.get('show') ?? 'files'
  const decision = asked.get('decision') ?? ''
  const number = run.id
  return (
    <Card
      size="small"
      title={
        <Segmented
          aria-label="Show"
          value={show}
          onChange={(v) => setAsked({ show: String(v) }, { replace: true })}
          options={[
            { value: 'files', label: 'Files' },
            { value: 'problems', label: 'Problems' },
            { value: 'log', label: 'Log' },
          ]}
        />
      }
    >
      {show === 'log' ? (
        <RunLog run={run} />
      ) : (
        <FilesTable
          of={['run', number, show, decision, run.state]}
          job={run.kind === 'transfer' && !isOneOff(run.job) ? run.job : undefined}
          empty={
            show === 'problems'
              ? 'No problems.'
              : run.cleared_at
                ? 'What was done to each file was kept as long as the settings say, and is cleared away. The totals stay.'
                : run.state === 'ended'
                  ? 'Nothing was done to any file: nothing was new or changed.'
                  : 'Nothing has been recorded yet.'
          }
          page={(after) =>
            got(
              api.GET('/api/v1/runs/{number}/objects', {
                params: {
                  path: { number },
                  query: { after, limit: 200, problems: show === 'problems', decision },
                },
              }),
            )
          }
        />
      )}
    </Card>
  )
}
