import { useMutation, useQueryClient } from '@tanstack/react-query'
import { App, Button, Card, Col, Empty, Flex, Form, Input, Row, Segmented, Typography } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, got, Refusal, type JobImported } from '../../api/client'
import { Failed, PageHead } from '../../parts/parts'
import { Sentences } from '../../parts/Sentences'
import { Differences } from './Differences'

type Shape = 'yaml' | 'csv'
const EXAMPLES: Record<Shape, string> = {
  yaml: 'job: dawn\nlegs:\n  - from: pine://posts/\n    to: pine://office/dawn/\n',
  csv: 'from,to,name,post\npine://posts/{post}/,pine://office/{post}/,dawn,north-fell\n',
}
const CHANGES: Record<JobImported['change'], string> = {
  new: '+ new',
  changed: '▲ changed',
  same: '○ as it is',
}

interface Given {
  text: string
  job?: string
  stores?: string
}

/** `test=live, a=b` → name in the file: name here. */
export function storeMap(text = ''): Record<string, string> {
  const pairs = text.split(/[\s,]+/).map((pair) => pair.split('=') as [string, string?])
  return Object.fromEntries(pairs.filter(([old, made]) => old && made)) as Record<string, string>
}

export default function JobFilesPage() {
  const queries = useQueryClient()
  const { message } = App.useApp()
  const [form] = Form.useForm<Given>()
  const [shape, setShape] = useState<Shape>('yaml')
  const bring = useMutation({
    mutationFn: (onlyCheck: boolean) => {
      const given = form.getFieldsValue()
      const body = {
        text: given.text,
        form: shape,
        job: given.job ?? '',
        stores: storeMap(given.stores),
        only_check: onlyCheck,
      }
      return got(api.POST('/api/v1/job-files', { body }))
    },
    onSuccess: async (told) => {
      if (!told.saved) return
      void message.success(`${told.differ} saved.`)
      await queries.invalidateQueries()
    },
  })
  const told = bring.data
  const take = async (file: File | undefined) => {
    if (!file) return
    setShape(file.name.endsWith('.csv') ? 'csv' : 'yaml')
    form.setFieldValue('text', await file.text())
    bring.reset()
  }
  return (
    <>
      <PageHead title="Jobs from a file">
        <Link to="/jobs">
          <Button>All jobs</Button>
        </Link>
      </PageHead>
      <Row gutter={16}>
        <Col xs={24} lg={12}>
          <Form
            form={form}
            layout="vertical"
            onFinish={() => bring.mutate(true)}
            onValuesChange={() => bring.reset()}
          >
            <Flex gap={12} wrap align="center" style={{ marginBottom: 12 }}>
              <Segmented<Shape>
                value={shape}
                onChange={setShape}
                options={[
                  { value: 'yaml', label: 'Definitions (YAML)' },
                  { value: 'csv', label: 'Table (CSV)' },
                ]}
              />
              <input
                type="file"
                aria-label="Take it from a file"
                accept=".yaml,.yml,.csv"
                onChange={(e) => void take(e.target.files?.[0])}
              />
            </Flex>
            <Form.Item label="Its text" name="text" required>
              <Input.TextArea
                rows={14}
                placeholder={EXAMPLES[shape]}
                style={{ fontFamily: 'monospace' }}
                spellCheck={false}
              />
            </Form.Item>
            {shape === 'csv' && (
              <Form.Item
                label="Name of the one job"
                name="job"
                extra="Where the table has no column name: its rows are legs of this job."
              >
                <Input style={{ maxWidth: 320 }} />
              </Form.Item>
            )}
            <Form.Item
              label="Other stores"
              name="stores"
              extra="Name in the file = name here, such as test=live."
            >
              <Input style={{ maxWidth: 320, fontFamily: 'monospace' }} />
            </Form.Item>
            <Flex gap={8} wrap>
              <Button htmlType="submit" loading={bring.isPending}>
                Show what would change
              </Button>
              <Button
                type="primary"
                disabled={!told || told.saved || !told.differ}
                loading={bring.isPending}
                onClick={() => bring.mutate(false)}
              >
                Save all of it
              </Button>
            </Flex>
          </Form>
        </Col>
        <Col xs={24} lg={12}>
          {bring.error != null && <Problems error={bring.error} />}
          {told ? (
            <Told told={told.jobs} />
          ) : (
            bring.error == null && (
              <Empty
                image={Empty.PRESENTED_IMAGE_SIMPLE}
                description="What would change in each job is shown here before anything is saved: all of it, or nothing."
              />
            )
          )}
        </Col>
      </Row>
    </>
  )
}

/** Each line that is wrong by itself. */
function Problems({ error }: { error: unknown }) {
  const lines = error instanceof Refusal ? (error.problem.problems ?? []) : []
  if (lines.length < 2) return <Failed error={error} />
  return (
    <Card size="small" title={`✗ ${lines.length} things are wrong: nothing was saved`} role="alert">
      <ul style={{ margin: 0, paddingInlineStart: 20 }}>
        {lines.map((line) => (
          <li key={line.message}>{line.message}</li>
        ))}
      </ul>
    </Card>
  )
}

function Told({ told }: { told: JobImported[] }) {
  const same = told.filter((one) => one.change === 'same').length
  return (
    <Flex vertical gap={12} role="status">
      {told
        .filter((one) => one.change !== 'same')
        .map((one) => (
          <Card
            key={one.job}
            size="small"
            title={<Link to={`/jobs/${one.job}`}>{one.job}</Link>}
            extra={CHANGES[one.change]}
          >
            {one.change === 'new' ? (
              <Sentences sentences={one.sentences} dangers={one.dangers} />
            ) : (
              <Differences of={one.differences} />
            )}
          </Card>
        ))}
      {same > 0 && (
        <Typography.Text type="secondary">
          {same} {same === 1 ? 'job is' : 'jobs are'} as in the file already.
        </Typography.Text>
      )}
    </Flex>
  )
}
