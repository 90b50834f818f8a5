import { useMutation, useQuery } from '@tanstack/react-query'
import { Button, Card, Col, Flex, Form, Row, Typography } from 'antd'
import { useEffect, useRef, useState } from 'react'
import { Link, useNavigate, useSearchParams } from 'react-router'
import { api, got, Refusal, type Carried, type CarryForm, type JobOption } from '../../api/client'
import { formsQuery } from '../../api/forms'
import { storesQuery } from '../../api/stores'
import { location, place } from '../../lib/words'
import { At, Failed, Loaded, PageHead } from '../../parts/parts'
import { PlaceInput } from '../stores/PlaceInput'
import { Sentences } from '../../parts/Sentences'
import { filledIn } from '../../parts/FieldInput'
import { BESIDE } from '../../parts/layout'
import { Counts, countsInWords, ofAllLegs, sawAll } from '../jobs/Counts'
import { JobOptions, optionsOf } from '../jobs/JobOptions'

const SETTLED_MS = 500

interface Values extends Record<string, unknown> {
  from: { store: string; path?: string }
  to: { store: string; path?: string }
}

/** Can I just move this? */
export default function CopyNow() {
  const stores = useQuery(storesQuery())
  const forms = useQuery(formsQuery())
  return (
    <>
      <PageHead title="Copy now" />
      <Loaded query={stores}>
        {(list) =>
          list.length ? (
            <Loaded query={forms}>
              {(told) => (
                <TheForm stores={list.map((s) => s.name)} options={optionsOf(told, 'carry')} />
              )}
            </Loaded>
          ) : (
            <Typography.Paragraph>
              Copying needs stores to take from and put to.{' '}
              <Link to="/stores/new">Add a store first.</Link>
            </Typography.Paragraph>
          )
        }
      </Loaded>
    </>
  )
}

function asked(values: Values, options: JobOption[], preview: boolean): CarryForm {
  const at = (p: Values['from']) => location({ store: p.store ?? '', path: p.path ?? '' })
  return { from: at(values.from), to: at(values.to), preview, ...filledIn(options, values) }
}

function TheForm({ stores, options }: { stores: string[]; options: JobOption[] }) {
  const [form] = Form.useForm<Values>()
  const [given] = useSearchParams()
  const go = useNavigate()
  const [meant, setMeant] = useState<Carried | null>(null)
  const check = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/carries/check', {
          body: asked(form.getFieldsValue(true) as Values, options, false),
        }),
      ),
    onSuccess: setMeant,
    onError: () => setMeant(null),
  })
  const look = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/carries/check', {
          body: asked(form.getFieldsValue(true) as Values, options, false),
        }),
      ),
    onSuccess: setMeant,
    onError: () => setMeant(null), // what is wrong is said when it is asked for
  })
  const carry = useMutation({
    mutationFn: (preview: boolean) =>
      got(
        api.POST('/api/v1/carries', {
          body: asked(form.getFieldsValue(true) as Values, options, preview),
        }),
      ),
    onSuccess: (told) =>
      go(told.run?.kind === 'preview' ? `/previews/${told.run.id}` : `/runs/${told.run?.id}`),
  })
  const errors = [carry.error, check.error].filter((e) => e != null)
  const refusal = errors.find((e) => e instanceof Refusal) as Refusal | undefined
  const help = (...fields: string[]) => {
    const said = fields.map((f) => refusal?.of(f)).find(Boolean)
    return said ? { help: said, validateStatus: 'error' as const } : {}
  }
  const settled = useRef<ReturnType<typeof setTimeout>>(undefined)
  const lookSoon = () => {
    clearTimeout(settled.current)
    settled.current = setTimeout(() => {
      const { from: here, to: there } = form.getFieldsValue(true) as Values
      if (here?.store && there?.store) look.mutate()
      else setMeant(null)
    }, SETTLED_MS)
  }
  useEffect(() => () => clearTimeout(settled.current), [])
  const counted = meant?.counted ?? []
  const counts = ofAllLegs(counted)
  const from = given.get('from')
  const ready = () =>
    form.validateFields().then(
      () => true,
      () => false,
    )
  return (
    <Form<Values>
      form={form}
      layout="vertical"
      onValuesChange={lookSoon}
      initialValues={{
        from: from ? place(from) : {},
        to: {},
        intent: 'renew',
      }}
      onFinish={() => carry.mutate(false)}
    >
      <Row gutter={16}>
        <Col xs={24} lg={14}>
          <PlaceInput
            which="from"
            label="From"
            stores={stores}
            hint="a file, or a folder/ whose contents are taken"
            onPicked={lookSoon}
            help={help('from', 'legs[0].from')}
          />
          <PlaceInput
            which="to"
            label="To"
            stores={stores}
            hint="into a folder/, or as a full name"
            onPicked={lookSoon}
            help={help('to', 'legs[0].to')}
          />
          <JobOptions
            options={options}
            help={help}
            now={(intent) => countsInWords(counts[intent], sawAll(counted))}
          />
        </Col>
        <Col xs={24} lg={10} style={BESIDE}>
          {meant && (
            <Card size="small" title="What it will do" role="status" style={{ marginBottom: 16 }}>
              {meant.example && (
                <Typography.Paragraph>
                  For example <At location={meant.example.from} /> →{' '}
                  <At location={meant.example.to} />
                </Typography.Paragraph>
              )}
              <Sentences {...meant} />
            </Card>
          )}
          <Counts legs={counted} isAsking={look.isPending} />
          {errors.length > 0 && <Failed error={errors[0]} />}
          <Flex gap={8} style={{ marginTop: 16 }} wrap>
            <Button
              onClick={() => void ready().then((ok) => ok && check.mutate())}
              loading={check.isPending}
            >
              Check
            </Button>
            <Button onClick={() => void ready().then((ok) => ok && carry.mutate(true))}>
              Preview
            </Button>
            <Button type="primary" htmlType="submit" loading={carry.isPending}>
              Copy now
            </Button>
          </Flex>
          <Typography.Paragraph type="secondary" style={{ marginTop: 16 }}>
            To ending in / means into it, under the same name. Without, a file is carried as that
            name. When it is done it can be kept as a job.
          </Typography.Paragraph>
        </Col>
      </Row>
    </Form>
  )
}
