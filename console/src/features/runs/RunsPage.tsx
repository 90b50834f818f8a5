import { useQuery } from '@tanstack/react-query'
import { Card, Empty, Flex, Input, Select } from 'antd'
import { useSearchParams } from 'react-router'
import { runsQuery } from '../../api/runs'
import { MARKS } from '../../lib/words'
import { Loaded, PageHead } from '../../parts/parts'
import { RunLine } from '../../parts/RunLine'

export default function RunsPage() {
  const [asked, setAsked] = useSearchParams()
  const job = asked.get('job') ?? ''
  const state = asked.get('state') ?? ''
  const query = useQuery({ ...runsQuery({ job, state }), refetchInterval: 5000 })
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
      <PageHead title="Runs" />
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
      </Flex>
      <Card size="small">
        <Loaded query={query}>
          {(runs) =>
            runs.length ? (
              <>
                {runs.map((run) => (
                  <RunLine key={run.id} run={run} />
                ))}
              </>
            ) : (
              <Empty
                image={Empty.PRESENTED_IMAGE_SIMPLE}
                description={job || state ? 'No runs like that.' : 'Nothing has run yet.'}
              />
            )
          }
        </Loaded>
      </Card>
    </>
  )
}
