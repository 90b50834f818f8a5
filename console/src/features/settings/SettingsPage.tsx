import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Card, Flex, Form, Input, InputNumber, Typography } from 'antd'
import { api, got, type ServiceSettings } from '../../api/client'
import { formsQuery } from '../../api/forms'
import { roomQuery, settingsQuery } from '../../api/settings'
import { DataTable } from '../../parts/DataTable'
import { Bytes, Failed, Loaded, PageHead } from '../../parts/parts'

interface Filled {
  values: string
  guards: Record<string, number>
  keep: Record<string, number>
}

/** What holds for the whole service: named values in places, and when a run asks first. */
export default function SettingsPage() {
  const query = useQuery(settingsQuery())
  return (
    <>
      <PageHead title="Settings" />
      <Loaded query={query}>{(told) => <SettingsForm told={told} />}</Loaded>
    </>
  )
}

function SettingsForm({ told }: { told: ServiceSettings }) {
  const queries = useQueryClient()
  const forms = useQuery(formsQuery())
  const limits = forms.data?.job_options.find((option) => option.name === 'guards')?.choices ?? []
  const save = useMutation({
    mutationFn: (filled: Filled) =>
      got(
        api.PUT('/api/v1/settings', {
          body: { values: linesOf(filled.values), guards: filled.guards, keep: filled.keep },
        }),
      ),
    onSuccess: (now) => queries.setQueryData(settingsQuery().queryKey, now),
  })
  const lines = Object.entries(told.values).map(([name, value]) => `${name}=${value}`)
  return (
    <Form<Filled>
      layout="vertical"
      initialValues={{ values: lines.join('\n'), guards: told.guards, keep: told.keep }}
      onFinish={(filled) => save.mutate(filled)}
      style={{ maxWidth: 760 }}
    >
      <Flex vertical gap={16}>
        <Card size="small" title="Named values">
          <Typography.Paragraph type="secondary">
            What {'{name}'} stands for in the places of all jobs that have no value of that name
            themselves.
          </Typography.Paragraph>
          <Form.Item name="values" label="One a line, as name=value" style={{ marginBottom: 0 }}>
            <Input.TextArea
              rows={5}
              placeholder="site=north-fell"
              style={{ fontFamily: 'monospace' }}
            />
          </Form.Item>
        </Card>
        <Card size="small" title="A run asks first above">
          <Typography.Paragraph type="secondary">
            For jobs that have no limit of their own. From the next run on.
          </Typography.Paragraph>
          <Flex gap={16} wrap>
            {limits.map((limit) => (
              <Form.Item
                key={limit.value}
                name={['guards', limit.value]}
                label={limit.title}
                style={{ marginBottom: 0 }}
              >
                <InputNumber min={0} style={{ width: 140 }} />
              </Form.Item>
            ))}
          </Flex>
        </Card>
        <Keeping periods={Object.keys(told.keep)} />
        {save.error && <Failed error={save.error} />}
        {save.isSuccess && (
          <Alert type="info" showIcon={false} message="Saved. It holds from the next run on." />
        )}
        <div>
          <Button type="primary" htmlType="submit" loading={save.isPending}>
            Save
          </Button>
        </div>
      </Flex>
    </Form>
  )
}

const KEPT: Record<string, string> = {
  records: 'What was done to each file',
  logs: 'Logs of runs',
  previews: 'Previews',
  runs: 'Runs, with their totals',
  notices: 'What was told',
}

/** How long what was recorded is kept, and what takes how much room. */
function Keeping({ periods }: { periods: string[] }) {
  const query = useQuery(roomQuery())
  return (
    <Card size="small" title="How long what was recorded is kept">
      <Typography.Paragraph type="secondary">
        In days; 0: without end. What an undo still needs stays longer. The trail always stays.
      </Typography.Paragraph>
      <Flex gap={16} wrap>
        {periods.map((name) => (
          <Form.Item key={name} name={['keep', name]} label={KEPT[name] ?? name}>
            <InputNumber min={0} max={36500} style={{ width: 140 }} />
          </Form.Item>
        ))}
      </Flex>
      <Loaded query={query}>
        {(rows) => (
          <DataTable
            rowKey="what"
            rows={rows}
            columns={[
              { title: 'What takes room', dataIndex: 'what' },
              {
                title: 'Room',
                width: 140,
                align: 'right',
                render: (_, row) => <Bytes n={row.bytes} />,
              },
            ]}
          />
        )}
      </Loaded>
    </Card>
  )
}

const linesOf = (text: string) => text.split('\n').filter((line) => line.trim())
