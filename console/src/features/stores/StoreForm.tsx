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
  Radio,
  Row,
  Select,
  Typography,
} from 'antd'
import { useEffect } from 'react'
import { useNavigate, useParams } from 'react-router'
import {
  api,
  got,
  Refusal,
  type Forms,
  type Store,
  type StoreForm as Values,
  type Tried,
} from '../../api/client'
import { formsQuery } from '../../api/forms'
import { storeFormQuery } from '../../api/stores'
import { FieldInput } from '../../parts/FieldInput'
import { BESIDE } from '../../parts/layout'
import { RareFields } from '../../parts/RareFields'
import { Failed, Loaded, PageHead } from '../../parts/parts'

export default function StoreForm() {
  const { name } = useParams()
  const store = useQuery(storeFormQuery(name ?? ''))
  const forms = useQuery(formsQuery())
  return (
    <>
      <PageHead title={name ? `Change ${name}` : 'Add a store'} />
      <Loaded query={forms}>
        {(told) =>
          name ? (
            <Loaded query={store}>{(old) => <TheForm old={old} kinds={told.stores} />}</Loaded>
          ) : (
            <TheForm kinds={told.stores} />
          )
        }
      </Loaded>
    </>
  )
}

/** A new store in the middle of something else. */
export function NewStore(props: { pasted?: string; onSaved: (name: string) => void }) {
  const forms = useQuery(formsQuery())
  return <Loaded query={forms}>{(told) => <TheForm kinds={told.stores} {...props} />}</Loaded>
}

interface FormProps {
  old?: Store
  kinds: Forms['stores']
  /** What it begins with. */
  pasted?: string
  /** Without it, its page follows. */
  onSaved?: (name: string) => void
}

function TheForm({ old, kinds, pasted: begun, onSaved }: FormProps) {
  const [form] = Form.useForm<Values & { write_to?: string }>()
  const usual = kinds[0]?.kind as Values['kind']
  const chosen = Form.useWatch('kind', form) ?? old?.kind ?? usual
  const kind = kinds.find((k) => k.kind === chosen)
  const fields = kind?.fields ?? []
  const go = useNavigate()
  const queries = useQueryClient()
  const { message } = App.useApp()
  const tried = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/v1/store-forms/try', {
          body: { write_to: '', ...(form.getFieldsValue() as Values) },
        }),
      ),
    // What the try told that was left open, such as a host key, is saved with the rest.
    onSuccess: (told) => {
      const found = Object.entries(Object.assign({}, ...told.steps.map((s) => s.found ?? {})))
      const open = found.filter(([field]) => !form.getFieldValue(field as keyof Values))
      form.setFieldsValue(Object.fromEntries(open) as Partial<Values>)
    },
  })
  const save = useMutation({
    mutationFn: (values: Values) =>
      old
        ? got(
            api.PATCH('/api/v1/stores/{name}', {
              params: { path: { name: old.name } },
              body: Object.fromEntries(
                Object.entries(values).filter(
                  ([k, v]) => v !== undefined && !(sealed.includes(k) && v === ''),
                ),
              ),
            }),
          )
        : got(api.POST('/api/v1/stores', { body: values })),
    onSuccess: async (told) => {
      void message.success(`Store ${told.name} is saved.`)
      await queries.invalidateQueries()
      if (onSaved) onSaved(told.name)
      else await go(`/stores/${told.name}`)
    },
  })
  const pasted = Form.useWatch('pasted', form) as string | undefined
  const sealed = kinds.flatMap((k) => k.fields.filter((f) => f.is_sealed).map((f) => f.name))
  const read = useMutation({
    mutationFn: (text: string) =>
      got(api.POST('/api/v1/store-forms/read', { body: { pasted: text } })),
    onSuccess: (told) =>
      form.setFieldsValue(
        Object.fromEntries(
          Object.entries(told.found).filter(([k]) => !sealed.includes(k)),
        ) as Partial<Values>,
      ),
  })
  const { mutate: understand } = read
  useEffect(() => {
    if (begun) understand(begun)
  }, [begun, understand])
  const refusal = [save.error, tried.error].find((e) => e instanceof Refusal) as Refusal | undefined
  const help = (field: string) => {
    const said = refusal?.of(field)
    return said ? { help: said, validateStatus: 'error' as const } : {}
  }
  return (
    <Form
      form={form}
      layout="vertical"
      initialValues={old ? { ...old } : { kind: usual, pasted: begun }}
      onFinish={(values: Values & { write_to?: string }) => {
        delete values.write_to
        save.mutate(values)
      }}
      autoComplete="off"
    >
      <Row gutter={16}>
        <Col xs={24} lg={12}>
          {!old && (
            <Form.Item
              label="Paste what you were given"
              name="pasted"
              extra="An address, a block of credentials or a command, as it comes: the fields below are filled."
            >
              <Input.TextArea
                rows={2}
                autoComplete="off"
                style={{ fontFamily: 'monospace' }}
                onBlur={(e) => e.target.value.trim() && read.mutate(e.target.value)}
              />
            </Form.Item>
          )}
          {read.data && (
            <Typography.Paragraph type="secondary" role="status">
              Understood:{' '}
              {Object.entries(read.data.found)
                .map(([k, v]) => `${k} ${v}`)
                .join(' · ') || 'nothing'}
              . {read.data.odd.join(' ')}
            </Typography.Paragraph>
          )}
          <Form.Item label="Kind" name="kind" {...help('kind')}>
            <Radio.Group
              disabled={!!old}
              options={kinds.map((k) => ({ value: k.kind, label: k.title }))}
            />
          </Form.Item>
          <Form.Item
            label="Short name"
            required
            extra="It names the store ever after: small letters, digits, hyphens."
            name="name"
            {...help('name')}
          >
            <Input disabled={!!old} />
          </Form.Item>
          <Form.Item
            label="Labels"
            extra="Whoever has rights on one of them may use this store. Without any, only rights on everything count."
            name="labels"
            {...help('labels')}
          >
            <Select mode="tags" open={false} suffixIcon={null} tokenSeparators={[',', ' ']} />
          </Form.Item>
          {fields
            .filter((f) => f.is_common)
            .map((f) => (
              <FieldInput
                key={f.name}
                field={f}
                help={help}
                required={f.is_needed && !(f.is_sealed && (old ?? pasted))}
                {...(old && f.is_sealed
                  ? {
                      label: `New ${f.title.toLowerCase()}`,
                      extra: 'Empty: the present one stays. A new address needs it again.',
                    }
                  : {})}
              />
            ))}
          {!old && !fields.some((f) => f.type === 'folder') && (
            <Form.Item
              label="Also try to write in"
              extra={`A ${kind?.has_buckets ? 'bucket' : 'folder, or / for the store itself'}. A small file of our own is written, read and deleted.`}
              name="write_to"
            >
              <Input style={{ fontFamily: 'monospace' }} />
            </Form.Item>
          )}
          <RareFields
            key={chosen}
            title="More of it"
            fields={fields.filter((f) => !f.is_common)}
            help={help}
          />
          {!!old?.jobs.length && (
            <Form.Item
              name="rebind"
              valuePropName="checked"
              extra={`Needed for another ${kind?.bound_by.join(' or ')}: the next run of ${old.jobs.join(', ')} then waits for your yes.`}
            >
              <Checkbox>The same files lie at the new address</Checkbox>
            </Form.Item>
          )}
        </Col>
        <Col xs={24} lg={12} style={BESIDE}>
          {(save.error ?? tried.error) && <Failed error={save.error ?? tried.error} />}
          {tried.data && <Steps tried={tried.data} />}
          <Flex gap={8} style={{ marginTop: 16 }} wrap>
            {!old && (
              <Button onClick={() => tried.mutate()} loading={tried.isPending}>
                Try it
              </Button>
            )}
            <Button type="primary" htmlType="submit" loading={save.isPending}>
              Save
            </Button>
          </Flex>
        </Col>
      </Row>
    </Form>
  )
}

export function Steps({ tried }: { tried: Tried }) {
  const signs = new Map<boolean | null, string>([
    [true, '✓'],
    [false, '✗'],
    [null, '○'],
  ])
  return (
    <Card size="small" title={tried.ok ? '✓ It works' : '✗ Not everything works'} role="status">
      {tried.steps.map((s) => (
        <Flex key={s.step} gap={8} style={{ padding: '3px 0' }}>
          <span style={{ minWidth: 92 }}>
            {signs.get(s.ok)} {s.step}
          </span>
          <Typography.Text type={s.ok === false ? 'danger' : undefined}>
            {s.message} {s.code && <code>({s.code})</code>}
          </Typography.Text>
        </Flex>
      ))}
    </Card>
  )
}
