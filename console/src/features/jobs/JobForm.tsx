import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import {
  Alert,
  App,
  Button,
  Card,
  Col,
  Flex,
  Form,
  Input,
  Row,
  Segmented,
  Select,
  Steps,
  Typography,
} from 'antd'
import { useEffect, useRef, useState, type ReactNode } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import {
  api,
  got,
  Refusal,
  type Definition,
  type Finding,
  type Forms,
  type LegCounted,
} from '../../api/client'
import { formsQuery } from '../../api/forms'
import { jobFormQuery, jobsQuery } from '../../api/jobs'
import { storesQuery } from '../../api/stores'
import { useDraft } from '../../hooks/draft'
import { DueTimes } from '../../parts/DueTimes'
import { Failed, Loaded, PageHead } from '../../parts/parts'
import { PlaceInput } from '../stores/PlaceInput'
import { Sentences } from '../../parts/Sentences'
import { BESIDE } from '../../parts/layout'
import { afterSaving, definition, initial, suggested, type Then, type Values } from './filledJob'
import { Counts, countsInWords, ofAllLegs, sawAll } from './Counts'
import { JobOptions, optionsOf } from './JobOptions'
import { TriggerInput } from './TriggerInput'

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

const STEPS = ['From', 'To', 'Afterwards', 'Leave out', 'When', 'Name and why']
/** A part of the form: alone where one goes step by step. What is hidden is kept all the same. */
function Section({
  of,
  isShown,
  children,
}: {
  of: string
  isShown: (section: string) => boolean
  children: ReactNode
}) {
  return <div hidden={!isShown(of)}>{children}</div>
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
  const [way, setWay] = useSearchParams()
  const isGuided = way.has('guided')
  const [step, setStep] = useState(0)
  const isShown = (section: string) => !isGuided || STEPS[step] === section
  const options = optionsOf(forms, 'job')
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
  const [counted, setCounted] = useState<LegCounted[]>([])
  const counting = useMutation({
    mutationFn: () => {
      const body = { ...asked(), job: old?.job ?? 'not-named-yet' }
      return got(api.POST('/api/v1/job-forms/count', { body }))
    },
    onSuccess: setCounted,
    onError: () => setCounted([]),
  })
  const settled = useRef<ReturnType<typeof setTimeout>>(undefined)
  const lookSoon = () => {
    clearTimeout(settled.current)
    settled.current = setTimeout(() => {
      const { from, to } = form.getFieldsValue(true) as Values
      if (from?.store && to?.store) {
        look.mutate()
        counting.mutate()
      }
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
    mutationFn: async (then: Then) => {
      const told = old
        ? await got(
            api.PUT('/api/v1/jobs/{name}', { params: { path: { name: old.job } }, body: asked() }),
          )
        : await got(api.POST('/api/v1/jobs', { body: asked() }))
      draft.forget()
      return afterSaving(told.job, then)
    },
    onSuccess: async (page) => {
      void message.success('Saved and checked, no problems. Next: preview it, or start it.')
      await queries.invalidateQueries()
      await go(page)
    },
  })
  const refusal = [save.error, check.error].find((e) => e instanceof Refusal) as Refusal | undefined
  const help = (field: string) => {
    const said = refusal?.of(field)
    return said ? { help: said, validateStatus: 'error' as const } : {}
  }
  const counts = ofAllLegs(counted)
  const next = () => {
    const { job, from, to } = form.getFieldsValue(true) as Values
    if (STEPS[step + 1] === 'Name and why' && !job) form.setFieldValue('job', suggested(from, to))
    setStep(step + 1)
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
      onFinish={() => save.mutate('')}
      onValuesChange={changed}
      scrollToFirstError
    >
      {!old && (
        <Flex justify="flex-end" style={{ marginBottom: 8 }}>
          <Segmented
            aria-label="How to fill it in"
            value={isGuided}
            onChange={(guided) => setWay(guided ? { guided: '' } : {}, { replace: true })}
            options={[
              { value: true, label: 'Step by step' },
              { value: false, label: 'All at once' },
            ]}
          />
        </Flex>
      )}
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
          {isGuided && (
            <Steps
              size="small"
              type="navigation"
              current={step}
              onChange={setStep}
              items={STEPS.map((title) => ({ title }))}
              responsive={false}
              style={{ marginBottom: 16, overflowX: 'auto' }}
            />
          )}
          <Section of="From" isShown={isShown}>
            <PlaceInput
              which="from"
              label="From"
              stores={stores}
              hint={HINT}
              help={help('legs[0].from')}
              onPicked={changed}
            />
          </Section>
          <Section of="To" isShown={isShown}>
            <PlaceInput
              which="to"
              label="To"
              stores={stores}
              hint={HINT}
              help={help('legs[0].to')}
              onPicked={changed}
            />
          </Section>
          <Section of="Afterwards" isShown={isShown}>
            <JobOptions
              options={options.filter((o) => !o.is_of_leg)}
              help={help}
              jobs={jobs.filter((j) => j !== old?.job)}
              now={(intent) => countsInWords(counts[intent], sawAll(counted))}
            />
          </Section>
          <Section of="Leave out" isShown={isShown}>
            <JobOptions
              options={options.filter((o) => o.is_of_leg)}
              help={help}
              title="More about which files, and their names"
            />
          </Section>
          <Section of="When" isShown={isShown}>
            <TriggerInput kinds={forms.triggers} help={help} />
          </Section>
          <Section of="Name and why" isShown={isShown}>
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
          </Section>
          {isGuided && (
            <Flex gap={8} style={{ marginBottom: 16 }}>
              <Button disabled={step === 0} onClick={() => setStep(step - 1)}>
                Back
              </Button>
              <Button
                type="primary"
                ghost
                disabled={step === STEPS.length - 1}
                onClick={() => next()}
              >
                Next
              </Button>
            </Flex>
          )}
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
          <Counts legs={counted} isAsking={counting.isPending} />
          {(save.error ?? check.error) && <Failed error={save.error ?? check.error} />}
          <Flex gap={8} style={{ marginTop: 16 }} wrap>
            <Button onClick={() => check.mutate()} loading={check.isPending}>
              Check
            </Button>
            <Button type="primary" htmlType="submit" loading={save.isPending}>
              Save
            </Button>
            <Button onClick={() => save.mutate('preview')} disabled={save.isPending}>
              Save and preview
            </Button>
            <Button onClick={() => save.mutate('try')} disabled={save.isPending}>
              Save and try 5 files
            </Button>
            <Button onClick={() => save.mutate('start')} disabled={save.isPending}>
              Save and start
            </Button>
          </Flex>
        </Col>
      </Row>
    </Form>
  )
}
