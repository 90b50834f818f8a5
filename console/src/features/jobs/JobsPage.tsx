import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Card, Empty, Flex, Input, Select, Tag, Typography } from 'antd'
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { api, got, type JobLine } from '../../api/client'
import { jobsQuery, type JobsWanted } from '../../api/jobs'
import { storesQuery } from '../../api/stores'
import { MARKS, span } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { Ago, Bytes, Failed, FromTo, Loaded, Mark, PageHead, useMay } from '../../parts/parts'
import { RunMarks } from '../../parts/RunMarks'

const PAGE = 50
export const INTENTS: Record<string, string> = {
  'top-up': 'add what is missing',
  renew: 'add and refresh',
  mirror: 'make the same',
  'hand-over': 'move',
}
const DANGEROUS = new Set(['mirror', 'hand-over'])

export default function JobsPage() {
  const [asked, setAsked] = useSearchParams()
  const wanted = wantedBy(asked)
  const query = useQuery({ ...jobsQuery(wanted), refetchInterval: 5000 })
  const isNarrowed = ['find', 'store', 'last', 'is_on', 'label'].some((key) => asked.has(key))
  const mayDefine = useMay('define')
  const keep = useMutation({
    mutationFn: () => got(api.GET('/api/v1/job-files')),
    onSuccess: ({ text }) => save('jobs.yaml', text),
  })
  const define = mayDefine && (
    <Flex gap={8} wrap>
      <Link to="/jobs/files">
        <Button>From a file</Button>
      </Link>
      <Button loading={keep.isPending} onClick={() => keep.mutate()}>
        As a file
      </Button>
      <Link to="/jobs/new">
        <Button type="primary">Define a job</Button>
      </Link>
    </Flex>
  )
  const set = (values: Record<string, string>) =>
    setAsked(
      (old) => {
        old.delete('skip')
        for (const [key, value] of Object.entries(values)) {
          if (value) old.set(key, value)
          else old.delete(key)
        }
        return old
      },
      { replace: true },
    )
  return (
    <>
      <PageHead title="Jobs">{define}</PageHead>
      <Filters asked={asked} set={set} />
      <Loaded query={query}>
        {({ jobs, total }) =>
          jobs.length ? (
            <List jobs={jobs} total={total} wanted={wanted} set={set} />
          ) : (
            <Empty
              image={Empty.PRESENTED_IMAGE_SIMPLE}
              description={
                isNarrowed
                  ? 'No job is like that.'
                  : 'No jobs yet. A job says what goes from where to where, by which rules, and when.'
              }
            >
              {isNarrowed ? <Button onClick={() => setAsked({})}>Show all</Button> : define}
            </Empty>
          )
        }
      </Loaded>
    </>
  )
}

/** Hands a text to the browser as a file. */
function save(name: string, text: string) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type: 'application/yaml' }))
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}

type Set = (values: Record<string, string>) => void

function wantedBy(asked: URLSearchParams): JobsWanted {
  const isOn = asked.get('is_on')
  const wanted: JobsWanted = {
    limit: PAGE,
    skip: Number(asked.get('skip') ?? 0),
    sort: (asked.get('sort') ?? 'job') as NonNullable<JobsWanted['sort']>,
    descending: asked.get('descending') === 'true',
  }
  for (const key of ['find', 'label', 'store', 'last'] as const) {
    const value = asked.get(key)
    if (value) wanted[key] = value
  }
  return isOn ? { ...wanted, is_on: isOn === 'true' } : wanted
}

function Filters({ asked, set }: { asked: URLSearchParams; set: Set }) {
  const stores = useQuery(storesQuery())
  return (
    <Flex gap={8} wrap style={{ marginBottom: 12 }}>
      <Input.Search
        aria-label="Find a job"
        allowClear
        placeholder="Name, title, place"
        defaultValue={asked.get('find') ?? ''}
        onSearch={(text) => set({ find: text.trim() })}
        style={{ width: 240 }}
      />
      <Select
        aria-label="Last run"
        style={{ width: 210 }}
        value={asked.get('last') ?? ''}
        onChange={(last) => set({ last })}
        options={[
          { value: '', label: 'Whatever the last run' },
          ...Object.entries(MARKS).map(([value, label]) => ({ value, label })),
          { value: 'never', label: 'never ran' },
        ]}
      />
      <Select
        aria-label="Store"
        style={{ width: 160 }}
        value={asked.get('store') ?? ''}
        onChange={(store) => set({ store })}
        options={[
          { value: '', label: 'Every store' },
          ...(stores.data ?? []).map((store) => ({ value: store.name, label: store.name })),
        ]}
      />
      <Select
        aria-label="On or off"
        style={{ width: 130 }}
        value={asked.get('is_on') ?? ''}
        onChange={(isOn) => set({ is_on: isOn })}
        options={[
          { value: '', label: 'On and off' },
          { value: 'true', label: 'On' },
          { value: 'false', label: 'Off' },
        ]}
      />
      {asked.get('label') && (
        <Tag closable onClose={() => set({ label: '' })} style={{ alignSelf: 'center' }}>
          label {asked.get('label')}
        </Tag>
      )}
    </Flex>
  )
}

function List({
  jobs,
  total,
  wanted,
  set,
}: {
  jobs: JobLine[]
  total: number
  wanted: JobsWanted
  set: Set
}) {
  const [chosen, setChosen] = useState<string[]>([])
  const order = wanted.descending ? ('descend' as const) : ('ascend' as const)
  const sorted = (key: string) => ({
    key,
    sorter: true,
    sortOrder: wanted.sort === key ? order : null,
  })
  return (
    <>
      <Together chosen={chosen} done={() => setChosen([])} />
      <DataTable<JobLine>
        rowKey="job"
        rows={jobs}
        card={(job) => <JobCard job={job} />}
        rowSelection={{
          selectedRowKeys: chosen,
          onChange: (keys) => setChosen(keys.map(String)),
          getCheckboxProps: (job) => ({ 'aria-label': `Choose ${job.job}` }) as object,
        }}
        pagination={
          total > PAGE && {
            total,
            pageSize: PAGE,
            showSizeChanger: false,
            current: (wanted.skip ?? 0) / PAGE + 1,
          }
        }
        onChange={(page, _, sorter) => {
          const by = Array.isArray(sorter) ? sorter[0] : sorter
          set({
            sort: by?.order ? String(by.columnKey) : '',
            descending: by?.order === 'descend' ? 'true' : '',
            skip: String(((page.current ?? 1) - 1) * PAGE || ''),
          })
        }}
        columns={[
          {
            ...sorted('job'),
            title: 'Job',
            render: (_, job) => <Named job={job} />,
          },
          { title: 'From → to', render: (_, job) => <Legs job={job} /> },
          { title: 'Latest runs', width: 150, render: (_, job) => <RunMarks runs={job.recent} /> },
          {
            ...sorted('last'),
            title: 'Last run',
            width: 176,
            render: (_, job) => <Last job={job} />,
          },
          {
            title: 'Took (usual)',
            width: 108,
            align: 'right',
            render: (_, job) => <Took job={job} />,
          },
          {
            title: 'Bytes',
            width: 88,
            align: 'right',
            render: (_, job) => (job.recent.length ? <Bytes n={job.last_bytes} /> : null),
          },
          { ...sorted('next'), title: 'Next', width: 126, render: (_, job) => <Next job={job} /> },
        ]}
      />
    </>
  )
}

type What = 'start' | 'on' | 'off' | { label: string }

function saidOf(what: What): string {
  if (typeof what === 'object') return `labelled ${what.label}`
  return what === 'start' ? 'started' : `switched ${what}`
}

/** What can be done with the jobs that were chosen. */
function Together({ chosen, done }: { chosen: string[]; done: () => void }) {
  const queries = useQueryClient()
  const { message } = App.useApp()
  const mayOperate = useMay('operate')
  const mayDefine = useMay('define')
  const each = useMutation({
    mutationFn: async (what: What) => {
      for (const name of chosen) {
        const path = { params: { path: { name } } }
        if (what === 'start') await got(api.POST('/api/v1/jobs/{name}/start', path))
        else if (typeof what === 'object') {
          const { definition } = await got(api.GET('/api/v1/jobs/{name}', path))
          const labels = [...new Set([...(definition.labels ?? []), what.label])]
          await got(api.PUT('/api/v1/jobs/{name}', { ...path, body: { ...definition, labels } }))
        } else {
          const body = { on: what === 'on', why: '' }
          await got(api.POST('/api/v1/jobs/{name}/switch', { ...path, body }))
        }
      }
      return what
    },
    onSuccess: (what) => {
      const jobs = `${chosen.length} ${chosen.length === 1 ? 'job' : 'jobs'}`
      void message.success(`${jobs} ${saidOf(what)}.`)
      done()
    },
    onSettled: () => queries.invalidateQueries(),
  })
  if (!chosen.length) return each.error ? <Failed error={each.error} /> : null
  return (
    <Flex vertical gap={8} style={{ marginBottom: 8 }}>
      <Flex gap={8} wrap align="center">
        <Typography.Text>{chosen.length} chosen:</Typography.Text>
        {mayOperate && (
          <Button size="small" onClick={() => each.mutate('start')} loading={each.isPending}>
            Start
          </Button>
        )}
        {mayDefine && (
          <>
            <Button size="small" onClick={() => each.mutate('off')} loading={each.isPending}>
              Switch off
            </Button>
            <Button size="small" onClick={() => each.mutate('on')} loading={each.isPending}>
              Switch on
            </Button>
            <Input.Search
              size="small"
              aria-label="Label them"
              placeholder="a label for them"
              enterButton="Label"
              onSearch={(text) => text.trim() && each.mutate({ label: text.trim() })}
              style={{ width: 220 }}
            />
          </>
        )}
      </Flex>
      {each.error != null && <Failed error={each.error} />}
    </Flex>
  )
}

function Named({ job }: { job: JobLine }) {
  return (
    <>
      <Link to={`/jobs/${job.job}`}>{job.job}</Link>
      <br />
      <Typography.Text type="secondary">
        {DANGEROUS.has(job.intent) && '▲ '}
        {INTENTS[job.intent] ?? job.intent}
      </Typography.Text>
      {job.labels.map((label) => (
        <Link key={label} to={`/jobs?label=${label}`} style={{ marginLeft: 6 }}>
          <Tag>{label}</Tag>
        </Link>
      ))}
    </>
  )
}

function JobCard({ job }: { job: JobLine }) {
  return (
    <Card size="small">
      <Named job={job} />
      <div>
        <Legs job={job} />
      </div>
      <Flex justify="space-between" wrap gap={8}>
        <Last job={job} />
        <span>
          next: <Next job={job} />
        </span>
      </Flex>
      <RunMarks runs={job.recent} />
    </Card>
  )
}

const SHOWN_LEGS = 2

function Legs({ job }: { job: JobLine }) {
  const more = job.legs.length - SHOWN_LEGS
  return (
    <>
      {job.legs.slice(0, SHOWN_LEGS).map((leg) => (
        <div key={leg.to}>
          <FromTo from={leg.from} to={leg.to} />
        </div>
      ))}
      {more > 0 && <Typography.Text type="secondary">and {more} more legs</Typography.Text>}
    </>
  )
}

function Last({ job }: { job: JobLine }) {
  const run = job.recent.at(-1)
  if (!run) return <Typography.Text type="secondary">never ran</Typography.Text>
  return (
    <Link to={`/runs/${run.id}`}>
      <Mark word={run.outcome || run.state} />
      <br />
      <Typography.Text type="secondary">
        <Ago at={run.ended_at ?? run.queued_at} />
      </Typography.Text>
    </Link>
  )
}

function Took({ job }: { job: JobLine }) {
  const seconds = job.recent.at(-1)?.seconds
  if (seconds == null) return null
  return (
    <span style={{ fontVariantNumeric: 'tabular-nums', whiteSpace: 'nowrap' }}>
      {span(seconds)}
      {job.usual_s != null && (
        <Typography.Text type="secondary"> ({span(job.usual_s)})</Typography.Text>
      )}
    </span>
  )
}

const Next = ({ job }: { job: JobLine }) =>
  job.is_on ? (
    <Ago at={job.next_due} never="when started" />
  ) : (
    <Typography.Text type="secondary">○ off</Typography.Text>
  )
