import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import {
  App,
  Button,
  Card,
  Checkbox,
  Col,
  Flex,
  Form,
  Input,
  Row,
  Select,
  Switch,
  Typography,
} from 'antd'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, got, Refusal, type Definition } from '../../api/client'
import { location, place } from '../../lib/words'
import { Failed, Loaded, PageHead } from '../../parts/parts'
import { PlaceInput } from '../../parts/PlaceInput'
import { Sentences } from '../../parts/Sentences'
import { CHOICES, COMPARISONS, FOLDERS, KEEP, ROUTES } from './choices'
import { IntentField } from './IntentField'

const HINT = 'path/ (in a bucket store: bucket/path/)'
const NOTHING = { sentences: [], dangers: [] }

interface Values {
  job: string
  title?: string
  why?: string
  labels?: string[]
  intent: string
  on_difference: string
  set_aside?: number | null
  aside_in?: string
  route?: Definition['route']
  waits_for?: string[]
  compare: string
  from: { store: string; path: string }
  to: { store: string; path: string }
  take?: string[]
  leave_out?: string[]
  keep?: string[]
  folders?: string
  scheduled: boolean
  cron?: string
  zone?: string
}

export default function JobForm() {
  const { name } = useParams()
  const stores = useQuery({ queryKey: ['stores'], queryFn: () => got(api.GET('/api/v1/stores')) })
  const jobs = useQuery({ queryKey: ['jobs'], queryFn: () => got(api.GET('/api/v1/jobs')) })
  const job = useQuery({
    queryKey: ['jobs', name, 'form'],
    enabled: !!name,
    staleTime: Infinity,
    queryFn: () => got(api.GET('/api/v1/jobs/{name}', { params: { path: { name: name ?? '' } } })),
  })
  return (
    <>
      <PageHead title={name ? `Change ${name}` : 'Define a job'} />
      <Loaded query={stores}>
        {(list) =>
          name && !job.data ? (
            <Loaded query={job}>{() => null}</Loaded>
          ) : (
            <TheForm
              old={job.data?.definition}
              stores={list.map((s) => s.name)}
              jobs={jobs.data?.map((j) => j.job) ?? []}
            />
          )
        }
      </Loaded>
    </>
  )
}

function initial(old: Definition | undefined): Values {
  const leg = old?.legs[0]
  const none = { store: '', path: '' }
  return {
    job: old?.job ?? '',
    title: old?.title,
    why: old?.why,
    labels: old?.labels ?? [],
    intent: old?.intent ?? 'renew',
    compare: old?.compare ?? 'since-last-run',
    on_difference: old?.on_difference ?? 'replace-changed',
    set_aside: old?.set_aside ?? null,
    aside_in: old?.aside_in ?? '',
    route: old?.route ?? 'shortest',
    waits_for: old?.waits_for ?? [],
    from: leg ? place(leg.from) : none,
    to: leg ? place(leg.to) : none,
    take: leg?.take,
    leave_out: leg?.leave_out,
    keep: old?.keep ?? [],
    folders: leg?.folders ?? 'with-files',
    scheduled: !!old?.schedule,
    cron: old?.schedule?.cron ?? '30 5 * * *',
    zone: old?.schedule?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
  }
}

function definition(values: Values, old: Definition | undefined): Definition {
  const at = (p: Values['from']) => location({ store: p.store, path: p.path ?? '' })
  const leg = {
    ...old?.legs[0],
    from: at(values.from),
    to: at(values.to),
    take: values.take ?? [],
    leave_out: values.leave_out ?? [],
    folders: values.folders,
  }
  const kept =
    values.intent !== 'top-up' && values.set_aside != null ? { set_aside: values.set_aside } : {}
  return {
    ...old,
    set_aside: undefined,
    aside_in: values.aside_in ?? '',
    route: values.route,
    waits_for: values.intent === 'hand-over' ? values.waits_for : undefined,
    ...kept,
    job: values.job,
    title: values.title ?? '',
    why: values.why ?? '',
    labels: values.labels ?? [],
    intent: values.intent,
    on_difference: values.on_difference,
    compare: values.compare,
    keep: values.keep ?? [],
    legs: [leg, ...(old?.legs.slice(1) ?? [])],
    schedule: values.scheduled ? { cron: values.cron ?? '', zone: values.zone ?? '' } : null,
  }
}

function TheForm({ old, stores, jobs }: { old?: Definition; stores: string[]; jobs: string[] }) {
  const [form] = Form.useForm<Values>()
  const go = useNavigate()
  const queries = useQueryClient()
  const { message } = App.useApp()
  const [meant, setMeant] = useState<{ sentences: string[]; dangers: string[] }>(NOTHING)
  const asked = () => definition(form.getFieldsValue(true) as Values, old)
  const check = useMutation({
    mutationFn: () => got(api.POST('/api/v1/job-forms/check', { body: asked() })),
    onSuccess: setMeant,
    onError: () => setMeant(NOTHING),
  })
  const save = useMutation({
    mutationFn: () =>
      old
        ? got(
            api.PUT('/api/v1/jobs/{name}', { params: { path: { name: old.job } }, body: asked() }),
          )
        : got(api.POST('/api/v1/jobs', { body: asked() })),
    onSuccess: async (told) => {
      void message.success('Saved and checked, no problems. Next: preview it, or start it.')
      await queries.invalidateQueries()
      await go(`/jobs/${told.job}`)
    },
  })
  const refusal = [save.error, check.error].find((e) => e instanceof Refusal) as Refusal | undefined
  const help = (field: string) => {
    const said = refusal?.of(field)
    return said ? { help: said, validateStatus: 'error' as const } : {}
  }
  if (!stores.length)
    return (
      <Typography.Paragraph>
        A job needs stores to take from and put to. <Link to="/stores/new">Add a store first.</Link>
      </Typography.Paragraph>
    )
  return (
    <Form<Values>
      form={form}
      layout="vertical"
      initialValues={initial(old)}
      onFinish={() => save.mutate()}
      onValuesChange={() => setMeant(NOTHING)}
      scrollToFirstError
    >
      <Row gutter={16}>
        <Col xs={24} lg={14}>
          <PlaceInput
            which="from"
            label="From"
            stores={stores}
            hint={HINT}
            help={help('legs[0].from')}
          />
          <PlaceInput which="to" label="To" stores={stores} hint={HINT} help={help('legs[0].to')} />
          <IntentField
            help={help(refusal?.of('waits_for') ? 'waits_for' : 'intent')}
            asideHelp={help('aside_in')}
            jobs={jobs.filter((j) => j !== old?.job)}
          />
          <Form.Item
            label="Leave out"
            name="leave_out"
            extra="Name patterns, such as *.tmp or drafts/**. What is left out is never touched."
            {...help('legs[0].leave_out')}
          >
            <Select
              mode="tags"
              open={false}
              suffixIcon={null}
              tokenSeparators={[',']}
              placeholder="Nothing"
            />
          </Form.Item>
          <Form.Item
            label="Take only"
            name="take"
            extra="Empty: everything."
            {...help('legs[0].take')}
          >
            <Select
              mode="tags"
              open={false}
              suffixIcon={null}
              tokenSeparators={[',']}
              placeholder="Everything"
            />
          </Form.Item>
          <Form.Item label="A file is carried when" name="compare" {...help('compare')}>
            <Select options={COMPARISONS} />
          </Form.Item>
          <Form.Item
            label="When a name exists there and differs"
            name="on_difference"
            {...help('on_difference')}
          >
            <Select options={CHOICES} />
          </Form.Item>
          <Form.Item
            label="Keep as well"
            name="keep"
            extra="Type, own metadata and time are always kept. A bucket keeps the rest as metadata."
          >
            <Checkbox.Group options={KEEP} />
          </Form.Item>
          <Form.Item label="Folders" name="folders">
            <Select options={FOLDERS} />
          </Form.Item>
          <Form.Item label="Inside one storage system" name="route">
            <Select options={ROUTES} />
          </Form.Item>
          <Form.Item label="When" name="scheduled" valuePropName="checked">
            <Switch checkedChildren="By the clock" unCheckedChildren="When started" />
          </Form.Item>
          <Form.Item noStyle shouldUpdate={(a: Values, b: Values) => a.scheduled !== b.scheduled}>
            {() =>
              form.getFieldValue('scheduled') && (
                <Flex gap={12} wrap>
                  <Form.Item
                    label="Minute hour day month weekday"
                    name="cron"
                    {...help('schedule.cron')}
                  >
                    <Input style={{ width: 220, fontFamily: 'monospace' }} />
                  </Form.Item>
                  <Form.Item label="Time zone" name="zone" {...help('schedule.zone')}>
                    <Input style={{ width: 220 }} />
                  </Form.Item>
                </Flex>
              )
            }
          </Form.Item>
        </Col>
        <Col xs={24} lg={10}>
          <Form.Item
            label="Name"
            name="job"
            required
            extra="Small letters, digits, hyphens."
            {...help('job')}
          >
            <Input disabled={!!old} />
          </Form.Item>
          <Form.Item label="Title" name="title">
            <Input />
          </Form.Item>
          <Form.Item label="Why it exists" name="why">
            <Input.TextArea rows={2} />
          </Form.Item>
          <Form.Item label="Labels" name="labels" {...help('labels')}>
            <Select mode="tags" open={false} suffixIcon={null} tokenSeparators={[',', ' ']} />
          </Form.Item>
          {meant.sentences.length > 0 && (
            <Card size="small" title="What it will do">
              <Sentences {...meant} />
            </Card>
          )}
          {(save.error ?? check.error) && <Failed error={save.error ?? check.error} />}
          <Flex gap={8} style={{ marginTop: 16 }} wrap>
            <Button onClick={() => check.mutate()} loading={check.isPending}>
              Check
            </Button>
            <Button type="primary" htmlType="submit" loading={save.isPending}>
              Save
            </Button>
          </Flex>
        </Col>
      </Row>
    </Form>
  )
}
