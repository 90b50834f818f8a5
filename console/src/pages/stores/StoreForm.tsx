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
  InputNumber,
  Radio,
  Row,
  Select,
  Typography,
} from 'antd'
import { useNavigate, useParams } from 'react-router'
import {
  api,
  got,
  Refusal,
  type Store,
  type StoreForm as Values,
  type Tried,
} from '../../api/client'
import { Failed, Loaded, PageHead } from '../../parts/parts'

const LINKS = [
  { value: 'refuse', label: 'Refused and listed' },
  { value: 'skip', label: 'Skipped' },
  { value: 'follow', label: 'Followed, inside this folder' },
  { value: 'keep', label: 'Kept as links' },
]
const SECRETS = ['secret', 'session_token', 'proxy_user', 'proxy_password']

export default function StoreForm() {
  const { name } = useParams()
  const store = useQuery({
    queryKey: ['stores', name],
    enabled: !!name,
    staleTime: Infinity,
    queryFn: () =>
      got(api.GET('/api/v1/stores/{name}', { params: { path: { name: name ?? '' } } })),
  })
  return (
    <>
      <PageHead title={name ? `Change ${name}` : 'Add a store'} />
      {name ? <Loaded query={store}>{(old) => <TheForm old={old} />}</Loaded> : <TheForm />}
    </>
  )
}

function TheForm({ old }: { old?: Store }) {
  const [form] = Form.useForm<Values & { write_to?: string }>()
  const kind = Form.useWatch('kind', form) ?? old?.kind ?? 'folder'
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
  })
  const save = useMutation({
    mutationFn: (values: Values) =>
      old
        ? got(
            api.PATCH('/api/v1/stores/{name}', {
              params: { path: { name: old.name } },
              body: Object.fromEntries(
                Object.entries(values).filter(
                  ([k, v]) => v !== undefined && !(k === 'secret' && v === ''),
                ),
              ),
            }),
          )
        : got(api.POST('/api/v1/stores', { body: values })),
    onSuccess: async (told) => {
      void message.success(`Store ${told.name} is saved.`)
      await queries.invalidateQueries()
      await go(`/stores/${told.name}`)
    },
  })
  const pasted = Form.useWatch('pasted', form) as string | undefined
  const read = useMutation({
    mutationFn: (text: string) =>
      got(api.POST('/api/v1/store-forms/read', { body: { pasted: text } })),
    onSuccess: (told) =>
      form.setFieldsValue(
        Object.fromEntries(
          Object.entries(told.found).filter(([k]) => !SECRETS.includes(k)),
        ) as Partial<Values>,
      ),
  })
  const refusal = [save.error, tried.error].find((e) => e instanceof Refusal) as Refusal | undefined
  const item = (field: string) => {
    const said = refusal?.of(field)
    return { name: field, ...(said ? { help: said, validateStatus: 'error' as const } : {}) }
  }
  return (
    <Form
      form={form}
      layout="vertical"
      initialValues={old ? { ...old } : { kind: 'folder' }}
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
              extra="An address, or a block of credentials as it comes: the fields below are filled."
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
          <Form.Item label="Kind" {...item('kind')}>
            <Radio.Group
              disabled={!!old}
              options={[
                { value: 'folder', label: 'A folder' },
                { value: 's3', label: 'An S3-compatible object store' },
              ]}
            />
          </Form.Item>
          <Form.Item
            label="Short name"
            required
            extra="It names the store ever after: small letters, digits, hyphens."
            {...item('name')}
          >
            <Input disabled={!!old} />
          </Form.Item>
          <Form.Item
            label="Labels"
            extra="Whoever has rights on one of them may use this store. Without any, only rights on everything count."
            {...item('labels')}
          >
            <Select mode="tags" open={false} suffixIcon={null} tokenSeparators={[',', ' ']} />
          </Form.Item>
          {kind === 'folder' ? (
            <Form.Item
              label="Path"
              required
              extra="The whole path on the service's machine, such as /srv/larkfell/posts."
              {...item('path')}
            >
              <Input style={{ fontFamily: 'monospace' }} />
            </Form.Item>
          ) : null}
          {kind === 'folder' && (
            <>
              <Form.Item
                label="Links in it"
                {...item('links')}
                extra="Without a choice they are refused and listed."
              >
                <Select allowClear placeholder="Refused and listed" options={LINKS} />
              </Form.Item>
              <Form.Item
                label="Proof"
                {...item('read_back')}
                extra="Without reading back, a copy is faster, and its size is all the proof there is."
              >
                <Select
                  allowClear
                  placeholder="Each file is read back from the disk"
                  options={[
                    { value: 'yes', label: 'Each file is read back from the disk' },
                    { value: 'no', label: 'Nothing is read back' },
                  ]}
                />
              </Form.Item>
              <Form.Item
                label="Marker file"
                {...item('marker')}
                extra="A file that lies in the folder itself. When it is missing, another disk is mounted there, and nothing is listed or written."
              >
                <Input placeholder="this-is-the-archive" />
              </Form.Item>
            </>
          )}
          {kind !== 'folder' && (
            <>
              <Form.Item
                label="Endpoint"
                required
                extra="The storage's address, such as https://objects.example or http://127.0.0.1:8751."
                {...item('endpoint')}
              >
                <Input style={{ fontFamily: 'monospace' }} />
              </Form.Item>
              <Form.Item
                label="Region"
                extra="Its code; left empty it is found out where the storage tells it."
                {...item('region')}
              >
                <Input style={{ fontFamily: 'monospace' }} />
              </Form.Item>
              <Form.Item
                label="Key id"
                required
                extra="From the storage's page on access keys."
                {...item('key_id')}
              >
                <Input style={{ fontFamily: 'monospace' }} autoComplete="off" />
              </Form.Item>
              <Form.Item
                label={old ? 'New secret' : 'Secret'}
                required={!old && !pasted}
                extra={
                  old
                    ? 'Empty: the present one stays. A new address needs it again.'
                    : 'Shown once beside the key id when the key was made. It is sealed here and never shown.'
                }
                {...item('secret')}
              >
                <Input.Password autoComplete="new-password" style={{ fontFamily: 'monospace' }} />
              </Form.Item>
              <Form.Item
                label="Confined to"
                extra="A bucket, or bucket/prefix. Empty: all buckets of this key."
                {...item('root')}
              >
                <Input style={{ fontFamily: 'monospace' }} />
              </Form.Item>
              {!old && (
                <Form.Item
                  label="Also try to write in"
                  extra="A bucket. A small file of our own is written, read and deleted."
                  name="write_to"
                >
                  <Input style={{ fontFamily: 'monospace' }} />
                </Form.Item>
              )}
              <Form.Item
                label="Proxy"
                extra="http://HOST:PORT, without a user or a password."
                {...item('proxy')}
              >
                <Input style={{ fontFamily: 'monospace' }} />
              </Form.Item>
              <Flex gap={12} wrap>
                <Form.Item label="User at the proxy" {...item('proxy_user')}>
                  <Input autoComplete="off" />
                </Form.Item>
                <Form.Item label="Password at the proxy" {...item('proxy_password')}>
                  <Input.Password autoComplete="new-password" />
                </Form.Item>
              </Flex>
              <Form.Item
                label="Content in the signature"
                {...item('sign_payload')}
                extra="Over plain HTTP alone; over TLS its checksum is enough."
              >
                <Select
                  allowClear
                  placeholder="Signed"
                  options={[
                    { value: 'yes', label: 'Signed' },
                    { value: 'no', label: 'Not signed' },
                  ]}
                />
              </Form.Item>
            </>
          )}
          <Form.Item
            label="At once, at most"
            {...item('most_at_once')}
            extra="So many requests, or files, over all runs. Empty: as many as bring more."
          >
            <InputNumber min={1} max={256} placeholder="found by trying" style={{ width: 180 }} />
          </Form.Item>
          {!!old?.jobs.length && (
            <Form.Item
              name="rebind"
              valuePropName="checked"
              extra={`Needed for another ${kind === 'folder' ? 'path' : 'endpoint or bucket'}: the next run of ${old.jobs.join(', ')} then waits for your yes.`}
            >
              <Checkbox>The same files lie at the new address</Checkbox>
            </Form.Item>
          )}
        </Col>
        <Col xs={24} lg={12}>
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
