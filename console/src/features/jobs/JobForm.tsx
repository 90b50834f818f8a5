import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, App, Button, Card, Col, Flex, Form, Input, Row, Select, Typography } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import {
  api,
  got,
  Refusal,
  type Definition,
  type Finding,
  type Forms,
  type JobOption,
} from '../../api/client'
import { formsQuery } from '../../api/forms'
import { jobFormQuery, jobsQuery } from '../../api/jobs'
import { storesQuery } from '../../api/stores'
import { location, place } from '../../lib/words'
import { useDraft } from '../../hooks/draft'
import { DueTimes } from '../../parts/DueTimes'
import { Failed, Loaded, PageHead } from '../../parts/parts'
import { PlaceInput } from '../../parts/PlaceInput'
import { Sentences } from '../../parts/Sentences'
import { filledIn } from '../../parts/FieldInput'
import { BESIDE } from '../../parts/layout'
import { JobOptions, optionsOf } from './JobOptions'
import { scheduleOf, TriggerInput, triggerOf } from './TriggerInput'

const HINT = 'path/ (in a bucket store: bucket/path/)'
const NOTHING: Meant = { sentences: [], dangers: [], due: [] }
const SETTLED_MS = 500

interface Meant {
  sentences: string[]
  dangers: string[]
  due: string[]
  /** What its stores answered, once that was asked. */
  findings?: Finding[]
}

function Findings({ of }: { of: Finding[] }) {
  if (!of.length) return <p role="status">✓ Its stores answer, and nothing is in its way.</p>
  return (
    <ul role="status" aria-label="What was found" style={{ paddingInlineStart: 20 }}>
      {of.map((finding) => (
        <li key={finding.field + finding.code}>
          <Typography.Text type={finding.is_problem ? 'danger' : 'warning'}>
            {finding.is_problem ? '✗' : '▲'} {finding.message}
          </Typography.Text>
        </li>
      ))}
    </ul>
  )
}

interface Values extends Record<string, unknown> {
  job: string
  title?: string
  why?: string
  labels?: string[]
  from: { store: string; path: string }
  to: { store: string; path: string }
}

export default function JobForm() {
  const { name } = useParams()
  const stores = useQuery(storesQuery())
  const jobs = useQuery(jobsQuery({ limit: 500 }))
  const forms = useQuery(formsQuery())
  const job = useQuery(jobFormQuery(name ?? ''))
  return (
    <>
      <PageHead title={name ? `Change ${name}` : 'Define a job'} />
      <Loaded query={stores}>
        {(list) =>
          name && !job.data ? (
            <Loaded query={job}>{() => null}</Loaded>
          ) : !forms.data ? (
            <Loaded query={forms}>{() => null}</Loaded>
          ) : (
            <TheForm
              old={job.data?.definition}
              forms={forms.data}
              stores={list.map((s) => s.name)}
              jobs={jobs.data?.jobs.map((j) => j.job) ?? []}
            />
          )
        }
      </Loaded>
    </>
  )
}

function initial(old: Definition | undefined, forms: Forms): Values {
  const leg = old?.legs[0]
  const none = { store: '', path: '' }
  return {
    intent: 'renew',
    ...leg, // its options by their names
    ...old,
    ...triggerOf(old, forms.triggers),
    job: old?.job ?? '',
    from: leg ? place(leg.from) : none,
    to: leg ? place(leg.to) : none,
  }
}

function definition(values: Values, old: Definition | undefined, forms: Forms): Definition {
  const at = (p: Values['from']) => location({ store: p.store, path: p.path ?? '' })
  const options = optionsOf(forms, 'job')
  const isAsked = (o: JobOption) =>
    !o.shown_for.length || o.shown_for.includes(String(values.intent))
  const leg = {
    ...(old?.legs[0]?.one ? { one: old.legs[0].one } : {}),
    from: at(values.from),
    to: at(values.to),
    ...filledIn(
      options.filter((o) => o.is_of_leg),
      values,
    ),
  }
  return {
    job: values.job,
    title: values.title ?? '',
    why: values.why ?? '',
    labels: values.labels ?? [],
    ...(old?.owner ? { owner: old.owner } : {}),
    ...filledIn(
      options.filter((o) => !o.is_of_leg && isAsked(o)),
      values,
    ),
    legs: [leg, ...(old?.legs.slice(1) ?? [])],
    schedule: scheduleOf(values, forms.triggers),
  }
}

interface FormProps {
  old?: Definition
  forms: Forms
  stores: string[]
  jobs: string[]
}

function TheForm({ old, forms, stores, jobs }: FormProps) {
  const [form] = Form.useForm<Values>()
  const go = useNavigate()
  const queries = useQueryClient()
  const { message } = App.useApp()
  const [meant, setMeant] = useState<Meant>(NOTHING)
  const draft = useDraft(old ? `job ${old.job}` : 'new job', form)
  const asked = () => definition(form.getFieldsValue(true) as Values, old, forms)
  const check = useMutation({
    mutationFn: () => got(api.POST('/api/v1/job-forms/look', { body: asked() })),
    onSuccess: setMeant,
    onError: () => setMeant(NOTHING),
  })
  const look = useMutation({
    mutationFn: () => {
      const body = { ...asked(), job: old?.job ?? 'not-named-yet' }
      return got(api.POST('/api/v1/job-forms/check', { body }))
    },
    onSuccess: setMeant,
    onError: () => setMeant(NOTHING), // what is wrong is said when it is asked for
  })
  const settled = useRef<ReturnType<typeof setTimeout>>(undefined)
  const lookSoon = () => {
    clearTimeout(settled.current)
    settled.current = setTimeout(() => {
      const { from, to } = form.getFieldsValue(true) as Values
      if (from?.store && to?.store) look.mutate()
    }, SETTLED_MS)
  }
  const changed = () => {
    draft.keep()
    lookSoon()
  }
  useEffect(() => {
    lookSoon() // what was filled in before it was opened
    return () => clearTimeout(settled.current)
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once, when it is opened
  }, [])
  const save = useMutation({
    mutationFn: () =>
      old
        ? got(
            api.PUT('/api/v1/jobs/{name}', { params: { path: { name: old.job } }, body: asked() }),
          )
        : got(api.POST('/api/v1/jobs', { body: asked() })),
    onSuccess: async (told) => {
      draft.forget()
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
      initialValues={initial(old, forms)}
      onFinish={() => save.mutate()}
      onValuesChange={changed}
      scrollToFirstError
    >
      {draft.isRestored && (
        <Alert
          type="info"
          showIcon={false}
          style={{ marginBottom: 12 }}
          title="As you left it: not saved yet."
          action={
            <Button
              size="small"
              onClick={() => {
                draft.forget()
                form.resetFields()
                setMeant(NOTHING)
              }}
            >
              Start over
            </Button>
          }
        />
      )}
      <Row gutter={16}>
        <Col xs={24} lg={14}>
          <Form.Item
            label="Name"
            name="job"
            required
            extra="Small letters, digits, hyphens."
            {...help('job')}
          >
            <Input disabled={!!old} />
          </Form.Item>
          <PlaceInput
            which="from"
            label="From"
            stores={stores}
            hint={HINT}
            help={help('legs[0].from')}
          />
          <PlaceInput which="to" label="To" stores={stores} hint={HINT} help={help('legs[0].to')} />
          <JobOptions
            options={optionsOf(forms, 'job')}
            help={help}
            jobs={jobs.filter((j) => j !== old?.job)}
          />
          <TriggerInput kinds={forms.triggers} help={help} />
          <Form.Item label="Title" name="title">
            <Input />
          </Form.Item>
          <Form.Item label="Why it exists" name="why">
            <Input.TextArea rows={2} />
          </Form.Item>
          <Form.Item label="Labels" name="labels" {...help('labels')}>
            <Select mode="tags" open={false} suffixIcon={null} tokenSeparators={[',', ' ']} />
          </Form.Item>
        </Col>
        <Col xs={24} lg={10} style={BESIDE}>
          <Card size="small" title="What it will do" aria-busy={look.isPending}>
            {meant.sentences.length ? (
              <>
                <Sentences sentences={meant.sentences} dangers={meant.dangers} />
                <DueTimes due={meant.due} />
                {meant.findings && <Findings of={meant.findings} />}
              </>
            ) : (
              <Typography.Text type="secondary">
                {look.error instanceof Refusal
                  ? look.error.message
                  : 'In sentences, as soon as it is known from where and to where.'}
              </Typography.Text>
            )}
          </Card>
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
