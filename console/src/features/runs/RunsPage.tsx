import { useQuery } from '@tanstack/react-query'
import { Empty, Flex, Input, Select, Typography } from 'antd'
import { Link, useSearchParams } from 'react-router'
import type { Run } from '../../api/client'
import { runsQuery } from '../../api/runs'
import { isOneOff, count, MARKS, span } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { Ago, Bytes, FromTo, Loaded, Mark, PageHead } from '../../parts/parts'
import { RunLine } from '../../parts/RunLine'

export default function RunsPage() {
  const [asked, setAsked] = useSearchParams()
  const job = asked.get('job') ?? ''
  const state = asked.get('state') ?? ''
  const when = spanOf(asked)
  const query = useQuery({ ...runsQuery({ job, state, ...when }), refetchInterval: 5000 })
  const set = (key: string, value: string) =>
    setAsked(
      (old) => {
        if (value) old.set(key, value)
        else old.delete(key)
        return old
      },
      { replace: true },
    )
  return (
    <>
      <PageHead title="Runs">
        <Link to={job ? `/history?job=${job}` : '/history'}>History</Link>
      </PageHead>
      <Flex gap={8} wrap style={{ marginBottom: 12 }}>
        <Select
          aria-label="State or outcome"
          style={{ width: 210 }}
          value={state}
          onChange={(v) => set('state', v)}
          options={[
            { value: '', label: 'Every state and outcome' },
            ...Object.entries(MARKS).map(([value, label]) => ({ value, label })),
          ]}
        />
        <Input.Search
          aria-label="Job"
          allowClear
          placeholder="Job"
          defaultValue={job}
          onSearch={(v) => set('job', v.trim())}
          style={{ width: 220 }}
        />
        <DayInput
          label="Ended on this day (UTC) or later"
          moment={when.since}
          set={(moment) => set('since', moment)}
        />
        <DayInput
          label="Ended before this day (UTC)"
          moment={when.until}
          set={(moment) => set('until', moment)}
        />
      </Flex>
      <Loaded query={query}>
        {(runs) =>
          runs.length ? (
            <List runs={runs} />
          ) : (
            <Empty
              image={Empty.PRESENTED_IMAGE_SIMPLE}
              description={job || state ? 'No runs like that.' : 'Nothing has run yet.'}
            />
          )
        }
      </Loaded>
    </>
  )
}

/** Which time, and what kind of runs, the address names. */
function spanOf(asked: URLSearchParams) {
  const since = asked.get('since')
  const until = asked.get('until')
  const only = asked.get('only')
  return {
    ...(since && { since }),
    ...(until && { until }),
    ...(only === 'transfer' && { only: 'transfer' as const }),
  }
}

interface DayProps {
  label: string
  moment: string | undefined
  set: (moment: string) => void
}

/** A day, which stands for its beginning. */
function DayInput({ label, moment, set }: DayProps) {
  return (
    <Input
      type="date"
      aria-label={label}
      title={label}
      value={moment?.slice(0, 10) ?? ''}
      onChange={({ target }) => set(target.value && `${target.value}T00:00:00Z`)}
      style={{ width: 150 }}
    />
  )
}

/** A count in a column of its own; nothing where there is none. */
const counted = (title: string, of: (run: Run) => number) => ({
  title,
  width: 94,
  align: 'right' as const,
  render: (_: unknown, run: Run) => (of(run) ? count(of(run)) : ''),
})

function List({ runs }: { runs: Run[] }) {
  return (
    <DataTable<Run>
      rowKey="id"
      rows={runs}
      card={(run) => <RunLine run={run} />}
      columns={[
        {
          title: 'Run',
          width: 136,
          render: (_, run) => (
            <Link to={`/runs/${run.id}`}>
              <Mark word={run.outcome || run.state} />
              <br />
              Run {run.id}
            </Link>
          ),
        },
        {
          title: 'Job',
          width: 150,
          render: (_, run) =>
            isOneOff(run.job) ? run.title : <Link to={`/jobs/${run.job}`}>{run.job}</Link>,
        },
        {
          title: 'From → to',
          render: (_, run) => run.legs[0] && <FromTo from={run.legs[0].from} to={run.legs[0].to} />,
        },
        counted('Copied', (run) => run.totals.copy.objects),
        counted('Replaced', (run) => run.totals.replace.objects),
        counted('Removed', (run) => run.totals.remove.objects + run.totals.clear.objects),
        counted('Problems', (run) => run.problems),
        {
          title: 'Bytes',
          width: 90,
          align: 'right',
          render: (_, run) => <Bytes n={run.totals.copy.bytes + run.totals.replace.bytes} />,
        },
        { title: 'Took', width: 76, align: 'right', render: (_, run) => took(run) },
        {
          title: 'By, when',
          width: 140,
          render: (_, run) => (
            <>
              <Typography.Text type="secondary">{run.cause}</Typography.Text>
              <br />
              <Ago at={run.ended_at ?? run.queued_at} />
            </>
          ),
        },
      ]}
    />
  )
}

function took(run: Run): string {
  if (!run.started_at || !run.ended_at) return ''
  return span((Date.parse(run.ended_at) - Date.parse(run.started_at)) / 1000)
}
