import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Alert, Button, Flex, Form, Input, Modal, Select, Tabs, Tag, Typography } from 'antd'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { api, got, type Person, Refusal } from '../../api/client'
import { peopleQuery } from '../../api/people'
import { exact } from '../../lib/words'
import { useFirstField } from '../../hooks/firstField'
import { MoreMenu } from '../../parts/MoreMenu'
import { Ago, Failed, Loaded, PageHead, useSession } from '../../parts/parts'
import { SessionsTable, TokensTable } from './Access'
import { MEANING, RIGHTS } from './rights'
import { DataTable } from '../../parts/DataTable'

type Grant = Person['rights'][number]
interface Told {
  name: string
  code: string
  ends_at: string
}

/** Who may do what; and by what they come in. */
export default function PeoplePage() {
  const [at, setAt] = useSearchParams()
  const [changing, setChanging] = useState<Person | 'new' | null>(null)
  const [told, setTold] = useState<Told | null>(null)
  const query = useQuery(peopleQuery())
  return (
    <>
      <PageHead title="People">
        <Button type="primary" onClick={() => setChanging('new')}>
          Add a person
        </Button>
      </PageHead>
      {told && (
        <Alert
          style={{ marginBottom: 16 }}
          type="success"
          showIcon={false}
          closable={{ onClose: () => setTold(null) }}
          title={`The entry code of ${told.name}, told this once:`}
          description={
            <>
              <Typography.Paragraph
                code
                copyable
                style={{ overflowWrap: 'anywhere', marginBottom: 4 }}
              >
                {told.code}
              </Typography.Paragraph>
              With it {told.name} sets a password at{' '}
              <Typography.Text code>{location.origin}/enter</Typography.Text>, by{' '}
              {exact(told.ends_at)}.
            </>
          }
        />
      )}
      <Tabs
        activeKey={at.get('show') ?? 'people'}
        onChange={(show) => setAt(show === 'people' ? {} : { show })}
        items={[
          {
            key: 'people',
            label: 'People',
            children: (
              <Loaded query={query}>
                {(people) => (
                  <PeopleTable people={people} onChange={setChanging} onCode={setTold} />
                )}
              </Loaded>
            ),
          },
          { key: 'sessions', label: 'Sessions', children: <SessionsTable everybodys /> },
          { key: 'tokens', label: 'Tokens', children: <TokensTable everybodys /> },
        ]}
      />
      {changing && (
        <PersonForm
          person={changing === 'new' ? null : changing}
          onClose={() => setChanging(null)}
          onCode={setTold}
        />
      )}
    </>
  )
}

interface PeopleTableProps {
  people: Person[]
  onChange: (person: Person) => void
  onCode: (told: Told) => void
}

function PeopleTable({ people, onChange, onCode }: PeopleTableProps) {
  const queries = useQueryClient()
  const own = useSession().data?.name
  const again = () => queries.invalidateQueries()
  const change = useMutation({
    mutationFn: ({ name, ...body }: { name: string; active?: boolean; second_factor?: false }) =>
      got(api.PATCH('/api/v1/people/{name}', { params: { path: { name } }, body })),
    onSuccess: again,
  })
  const code = useMutation({
    mutationFn: (name: string) =>
      got(api.POST('/api/v1/people/{name}/entry-code', { params: { path: { name } } })),
    onSuccess: (made, name) => {
      onCode({ name, ...made })
      return again()
    },
  })
  const failed = change.error ?? code.error
  const actions = (p: Person) => [
    { key: 'code', label: 'New entry code', onClick: () => code.mutate(p.name) },
    ...(p.second_factor
      ? [
          {
            key: 'factor',
            label: 'Take the second factor off',
            onClick: () => change.mutate({ name: p.name, second_factor: false }),
          },
        ]
      : []),
    ...(p.name === own
      ? []
      : [
          {
            key: 'off',
            danger: p.active,
            label: p.active ? 'Switch off: signed out everywhere, tokens end' : 'Switch on again',
            onClick: () => change.mutate({ name: p.name, active: !p.active }),
          },
        ]),
  ]
  return (
    <>
      {failed && (
        <div style={{ marginBottom: 12 }}>
          <Failed error={failed} />
        </div>
      )}
      <DataTable<Person>
        rowKey="name"
        rows={people}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        scroll={{ x: 'max-content' }}
        columns={[
          {
            title: 'Person',
            render: (_, p) => (
              <Typography.Text strong={p.active} type={p.active ? undefined : 'secondary'}>
                {p.name}
              </Typography.Text>
            ),
          },
          {
            title: 'Rights',
            render: (_, p) =>
              p.rights.length ? (
                p.rights.map((r) => <GrantTag key={r.right + r.label} grant={r} />)
              ) : (
                <Typography.Text type="secondary">none</Typography.Text>
              ),
          },
          {
            title: 'Second factor',
            render: (_, p) =>
              p.second_factor ? '✓ on' : <Typography.Text type="secondary">off</Typography.Text>,
          },
          { title: 'Last seen', render: (_, p) => <Ago at={p.seen_at} /> },
          { title: 'May come in', render: (_, p) => <MayComeIn person={p} /> },
          {
            title: '',
            width: 170,
            render: (_, p) => (
              <Flex gap={4}>
                <Button size="small" onClick={() => onChange(p)}>
                  Rights
                </Button>
                <MoreMenu items={actions(p)} label={`More for ${p.name}`} />
              </Flex>
            ),
          },
        ]}
      />
    </>
  )
}

function GrantTag({ grant }: { grant: Grant }) {
  return (
    <Tag>
      {grant.right}
      {grant.label ? ` on ${grant.label}` : ' on everything'}
    </Tag>
  )
}

function MayComeIn({ person }: { person: Person }) {
  if (!person.active) return <Typography.Text type="secondary">□ switched off</Typography.Text>
  if (person.code_ends_at)
    return (
      <span>
        ◌ entry code, ends <Ago at={person.code_ends_at} />
      </span>
    )
  return <span>✓ yes</span>
}

interface Given {
  name: string
  rights: { right: Grant['right']; label?: string }[]
}

interface PersonFormProps {
  person: Person | null
  onClose: () => void
  onCode: (told: Told) => void
}

/** A new person, who gets an entry code; or other rights. */
function PersonForm({ person, onClose, onCode }: PersonFormProps) {
  const queries = useQueryClient()
  const [form] = Form.useForm<Given>()
  const save = useMutation({
    mutationFn: async (given: Given) => {
      const rights = given.rights.map((r) => ({ right: r.right, label: r.label ?? '' }))
      if (person)
        return got(
          api.PATCH('/api/v1/people/{name}', {
            params: { path: { name: person.name } },
            body: { rights },
          }),
        )
      const made = await got(api.POST('/api/v1/people', { body: { name: given.name, rights } }))
      if (made.entry_code) onCode({ name: made.name, ...made.entry_code })
    },
    onSuccess: () => {
      onClose()
      return queries.invalidateQueries()
    },
  })
  const { field, afterOpenChange } = useFirstField()
  const nameProblem = save.error instanceof Refusal ? save.error.of('name') : undefined
  const start: Given = {
    name: person?.name ?? '',
    rights: person?.rights ?? [{ right: 'look', label: '' }],
  }
  return (
    <Modal
      open
      title={person ? `The rights of ${person.name}` : 'Add a person'}
      okText={person ? 'Save' : 'Add, and get an entry code'}
      onCancel={onClose}
      onOk={() => form.submit()}
      afterOpenChange={afterOpenChange}
      confirmLoading={save.isPending}
    >
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={start}
        onFinish={(given: Given) => save.mutate(given)}
      >
        {!person && (
          <Form.Item
            label="Short name"
            name="name"
            rules={[{ required: true, message: 'Small letters, digits and hyphens.' }]}
            validateStatus={nameProblem ? 'error' : undefined}
            help={nameProblem}
          >
            <Input ref={field} placeholder="wren" />
          </Form.Item>
        )}
        <Form.List name="rights">
          {(rows, { add, remove }) => (
            <>
              {rows.map((row) => (
                <Flex key={row.key} gap={8} align="baseline">
                  <Form.Item
                    name={[row.name, 'right']}
                    style={{ flex: 3, marginBottom: 8 }}
                    rules={[{ required: true, message: 'Which right?' }]}
                  >
                    <Select
                      aria-label="Right"
                      options={RIGHTS.map((value) => ({
                        value,
                        label: `${value}: ${MEANING[value]}`,
                      }))}
                    />
                  </Form.Item>
                  <Form.Item name={[row.name, 'label']} style={{ flex: 1, marginBottom: 8 }}>
                    <Input aria-label="Label" placeholder="everything" prefix="on" />
                  </Form.Item>
                  <Button size="small" onClick={() => remove(row.name)}>
                    Leave out
                  </Button>
                </Flex>
              ))}
              <Button size="small" onClick={() => add({ right: 'look', label: '' })}>
                One more
              </Button>
            </>
          )}
        </Form.List>
        <Typography.Paragraph type="secondary" style={{ marginTop: 12, marginBottom: 0 }}>
          A right includes those before it. With a label it counts only for stores and jobs that
          have the label.
        </Typography.Paragraph>
      </Form>
      {save.error && !nameProblem && (
        <div style={{ marginTop: 12 }}>
          <Failed error={save.error} />
        </div>
      )}
    </Modal>
  )
}
