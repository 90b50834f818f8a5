import { useMutation, useQuery } from '@tanstack/react-query'
import { Button, Card, Col, Flex, Form, Input, Row, Select, Typography } from 'antd'
import { useState } from 'react'
import { Link, useNavigate, useSearchParams } from 'react-router'
import { api, got, Refusal, type Carried, type CarryForm } from '../../api/client'
import { location, place } from '../../lib/words'
import { At, Failed, Loaded, PageHead } from '../../parts/parts'
import { PlaceInput } from '../../parts/PlaceInput'
import { Sentences } from '../../parts/Sentences'
import { CHOICES } from '../jobs/choices'
import { IntentField } from '../jobs/IntentField'

interface Values {
  from: { store: string; path?: string }
  to: { store: string; path?: string }
  intent: string
  on_difference: string
  set_aside?: number | null
  take?: string[]
  leave_out?: string[]
  changed_within?: string
  larger_than?: string
  rename?: string
}

/** Can I just move this? */
export default function CopyNow() {
  const stores = useQuery({ queryKey: ['stores'], queryFn: () => got(api.GET('/api/v1/stores')) })
  return (
    <>
      <PageHead title="Copy now" />
      <Loaded query={stores}>
        {(list) =>
          list.length ? (
            <TheForm stores={list.map((s) => s.name)} />
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

function asked(values: Values, preview: boolean): CarryForm {
  const at = (p: Values['from']) => location({ store: p.store ?? '', path: p.path ?? '' })
  return {
    from: at(values.from),
    to: at(values.to),
    intent: values.intent,
    on_difference: values.on_difference,
    preview,
    ...(values.set_aside != null ? { set_aside: values.set_aside } : {}),
    take: values.take ?? [],
    leave_out: values.leave_out ?? [],
    changed_within: values.changed_within ?? '',
    larger_than: values.larger_than ?? '',
    ...(values.rename ? { rename: { pattern: '', to: values.rename } } : {}),
  }
}

function TheForm({ stores }: { stores: string[] }) {
  const [form] = Form.useForm<Values>()
  const [given] = useSearchParams()
  const go = useNavigate()
  const [meant, setMeant] = useState<Carried | null>(null)
  const check = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/carries/check', {
          body: asked(form.getFieldsValue(true) as Values, false),
        }),
      ),
    onSuccess: setMeant,
    onError: () => setMeant(null),
  })
  const carry = useMutation({
    mutationFn: (preview: boolean) =>
      got(
        api.POST('/api/v1/carries', { body: asked(form.getFieldsValue(true) as Values, preview) }),
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
      onValuesChange={() => setMeant(null)}
      initialValues={{
        from: from ? place(from) : {},
        to: {},
        intent: 'renew',
        on_difference: 'replace-changed',
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
            help={help('from', 'legs[0].from')}
          />
          <PlaceInput
            which="to"
            label="To"
            stores={stores}
            hint="into a folder/, or as a full name"
            help={help('to', 'legs[0].to')}
          />
          <IntentField help={help('intent')} />
          <Form.Item label="When a name exists there and differs" name="on_difference">
            <Select options={CHOICES} />
          </Form.Item>
          <Form.Item label="Leave out" name="leave_out" {...help('legs[0].leave_out')}>
            <Select
              mode="tags"
              open={false}
              suffixIcon={null}
              tokenSeparators={[',']}
              placeholder="Nothing; or patterns such as *.tmp"
            />
          </Form.Item>
          <Form.Item label="Take only" name="take" {...help('legs[0].take')}>
            <Select
              mode="tags"
              open={false}
              suffixIcon={null}
              tokenSeparators={[',']}
              placeholder="Everything; or patterns such as *.flac"
            />
          </Form.Item>
          <Flex gap={12} wrap>
            <Form.Item
              label="Changed within"
              name="changed_within"
              {...help('legs[0].changed_within')}
            >
              <Input placeholder="32 days" style={{ width: 130 }} />
            </Form.Item>
            <Form.Item label="Larger than" name="larger_than" {...help('legs[0].larger_than')}>
              <Input placeholder="10 MiB" style={{ width: 130 }} />
            </Form.Item>
            <Form.Item label="New names" name="rename" {...help('legs[0].rename')}>
              <Input
                placeholder="{year}/{name}{ending}"
                style={{ width: 240, fontFamily: 'monospace' }}
              />
            </Form.Item>
          </Flex>
        </Col>
        <Col xs={24} lg={10}>
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
