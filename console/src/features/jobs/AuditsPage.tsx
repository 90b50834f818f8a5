import { useMutation, useQuery } from '@tanstack/react-query'
import { Button, Card, Flex, Form, Input, InputNumber, Select } from 'antd'
import { Link, useNavigate } from 'react-router'
import { api, got, type Run } from '../../api/client'
import { auditsQuery } from '../../api/runs'
import { count, isOneOff } from '../../lib/words'
import { DataTable } from '../../parts/DataTable'
import { UNDERLINED } from '../../parts/layout'
import { Ago, Failed, FromTo, Loaded, Mark, PageHead, useMay } from '../../parts/parts'
import { DEPTHS } from './AuditPage'

interface Filled {
  from: string
  to: string
  depth: keyof typeof DEPTHS
  sample: number
}

/** Are both sides still the same? Of jobs, and of any two places. */
export default function AuditsPage() {
  const query = useQuery({ ...auditsQuery(), refetchInterval: 5000 })
  const mayOperate = useMay('operate')
  return (
    <>
      <PageHead title="Audits" />
      {mayOperate && <NewAudit />}
      <Loaded query={query}>{(rows) => <List rows={rows} />}</Loaded>
    </>
  )
}

function NewAudit() {
  const go = useNavigate()
  const start = useMutation({
    mutationFn: (body: Filled) => got(api.POST('/api/v1/audits/places', { body })),
    onSuccess: (audit) => go(`/audits/${audit.id}`),
  })
  const place = [{ required: true, message: 'A place: pine://STORE/PATH' }]
  return (
    <Card size="small" title="Compare two places" style={{ marginBottom: 16 }}>
      <Form<Filled>
        layout="vertical"
        requiredMark={false}
        initialValues={{ depth: 'names', sample: 100 }}
        onFinish={(filled) => start.mutate(filled)}
      >
        <Flex gap={12} wrap align="end">
          <Form.Item name="from" label="Here" rules={place} style={{ minWidth: 260, flex: 1 }}>
            <Input placeholder="pine://posts/dawn/" style={{ fontFamily: 'monospace' }} />
          </Form.Item>
          <Form.Item name="to" label="There" rules={place} style={{ minWidth: 260, flex: 1 }}>
            <Input placeholder="pine://office/dawn/" style={{ fontFamily: 'monospace' }} />
          </Form.Item>
          <Form.Item name="depth" label="How closely" style={{ width: 290 }}>
            <Select options={Object.entries(DEPTHS).map(([value, label]) => ({ value, label }))} />
          </Form.Item>
          <Form.Item name="sample" label="Sample, %" style={{ width: 90 }}>
            <InputNumber min={1} max={100} />
          </Form.Item>
          <Form.Item>
            <Button type="primary" htmlType="submit" loading={start.isPending}>
              Compare
            </Button>
          </Form.Item>
        </Flex>
        {start.error && <Failed error={start.error} />}
      </Form>
    </Card>
  )
}

function List({ rows }: { rows: Run[] }) {
  const of = (run: Run) => (isOneOff(run.job) ? 'two places' : run.job)
  const title = (run: Run) => (
    <Link to={`/audits/${run.id}`} style={UNDERLINED}>
      <Mark word={run.outcome || run.state} /> Audit {run.id}
    </Link>
  )
  return (
    <DataTable<Run>
      rowKey="id"
      rows={rows}
      empty="Nothing was audited yet. Compare two places, or audit a job."
      card={(run) => (
        <div>
          {title(run)} · {of(run)} · {count(run.findings)} findings
        </div>
      )}
      columns={[
        { title: 'Audit', width: 190, render: (_, run) => title(run) },
        { title: 'Of', width: 160, render: (_, run) => of(run) },
        {
          title: 'Here → there',
          render: (_, run) => run.legs[0] && <FromTo from={run.legs[0].from} to={run.legs[0].to} />,
        },
        { title: 'Looked at', render: (_, run) => DEPTHS[run.audit.depth ?? 'names'] },
        {
          title: 'Findings',
          width: 90,
          align: 'right',
          render: (_, run) => count(run.findings),
        },
        {
          title: 'When',
          width: 120,
          render: (_, run) => <Ago at={run.ended_at ?? run.queued_at} />,
        },
      ]}
    />
  )
}
