import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { App, Button, Card, Flex, Typography } from 'antd'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, got, type Delivery, type Notice } from '../../api/client'
import { deliveriesQuery, noticesQuery } from '../../api/notices'
import { DataTable } from '../../parts/DataTable'
import { MoreMenu } from '../../parts/MoreMenu'
import { UNDERLINED } from '../../parts/layout'
import { Ago, Failed, Loaded, PageHead } from '../../parts/parts'
import { kindWords } from './kinds'
import { MailForm } from './MailForm'
import { NoticeForm } from './NoticeForm'

/** Who is told of what, whether it has reached them, and where e-mail is handed in. */
export default function NoticesPage() {
  const [isAdding, setAdding] = useState(false)
  const notices = useQuery(noticesQuery())
  const sent = useQuery(deliveriesQuery())
  return (
    <>
      <PageHead title="Notices">
        <Button type="primary" onClick={() => setAdding(true)}>
          Tell somebody
        </Button>
      </PageHead>
      {isAdding && <NoticeForm onClose={() => setAdding(false)} />}
      <Flex vertical gap={16}>
        <Card size="small" title="Who is told">
          <Loaded query={notices}>{(rows) => <Rules rows={rows} />}</Loaded>
        </Card>
        <Card size="small" title="What was told">
          <Loaded query={sent}>{(rows) => <Deliveries rows={rows} />}</Loaded>
        </Card>
        <MailForm />
      </Flex>
    </>
  )
}

const sendsWhen = ({ once_at, quiet }: Notice) =>
  (once_at ? `daily at ${once_at}` : 'at once') + (quiet ? `, but not ${quiet}` : '')

function Rules({ rows }: { rows: Notice[] }) {
  const queries = useQueryClient()
  const { message } = App.useApp()
  const again = () => queries.invalidateQueries({ queryKey: ['notices'] })
  const path = (number: number) => ({ params: { path: { number } } })
  const tryIt = useMutation({
    mutationFn: (number: number) => got(api.POST('/api/v1/notices/{number}/try', path(number))),
    onSuccess: (told) =>
      void (told.ok ? message.success(told.message) : message.error(told.message, 10)),
  })
  const change = useMutation({
    mutationFn: (rule: Notice) =>
      got(
        api.PATCH('/api/v1/notices/{number}', { ...path(rule.id), body: { is_on: !rule.is_on } }),
      ),
    onSuccess: again,
  })
  const drop = useMutation({
    mutationFn: (number: number) => got(api.DELETE('/api/v1/notices/{number}', path(number))),
    onSuccess: again,
  })
  const failed = tryIt.error ?? change.error ?? drop.error
  const actions = (rule: Notice) => [
    { key: 'try', label: 'Send a try', onClick: () => tryIt.mutate(rule.id) },
    {
      key: 'switch',
      label: rule.is_on ? 'Switch off' : 'Switch on',
      onClick: () => change.mutate(rule),
    },
    { key: 'drop', label: 'Tell them no more', danger: true, onClick: () => drop.mutate(rule.id) },
  ]
  const whom = (rule: Notice) => (
    <span style={{ overflowWrap: 'anywhere' }}>{rule.to.join(', ')}</span>
  )
  const of = (rule: Notice) =>
    rule.job || (rule.label ? `all with the label ${rule.label}` : 'all jobs')
  return (
    <>
      {failed && <Failed error={failed} />}
      <DataTable<Notice>
        rowKey="id"
        rows={rows}
        empty="Nobody is told yet. Tell somebody."
        card={(rule) => (
          <Flex justify="space-between">
            <div>
              {whom(rule)}: {kindWords(rule.kinds)}, of {of(rule)}, {sendsWhen(rule)}
            </div>
            <MoreMenu items={actions(rule)} label={`More for notice ${rule.id}`} />
          </Flex>
        )}
        columns={[
          { title: 'Whom', render: (_, rule) => whom(rule) },
          { title: 'Of', width: 180, render: (_, rule) => of(rule) },
          {
            title: 'When',
            render: (_, rule) =>
              rule.is_on ? (
                <>
                  {kindWords(rule.kinds)}
                  {(rule.once_at || rule.quiet) && (
                    <div>
                      <Typography.Text type="secondary">Sent {sendsWhen(rule)}</Typography.Text>
                    </div>
                  )}
                </>
              ) : (
                <Typography.Text>□ switched off</Typography.Text>
              ),
          },
          {
            title: 'Last sent',
            width: 130,
            render: (_, rule) => <Ago at={rule.sent_at} />,
          },
          {
            title: '',
            width: 260,
            render: (_, rule) =>
              rule.message && (
                <Typography.Text type="warning">
                  ▲ {rule.waiting} wait: {rule.message}
                </Typography.Text>
              ),
          },
          {
            title: '',
            width: 80,
            render: (_, rule) => (
              <MoreMenu items={actions(rule)} label={`More for notice ${rule.id}`} />
            ),
          },
        ]}
      />
    </>
  )
}

function Deliveries({ rows }: { rows: Delivery[] }) {
  const what = (row: Delivery) => (
    <>
      {kindWords([row.kind])}{' '}
      <Link to={row.path} style={UNDERLINED}>
        {row.job || 'the trail'}
      </Link>
      : {row.words}
    </>
  )
  return (
    <DataTable<Delivery>
      rowKey="id"
      rows={rows}
      empty="Nothing was told yet."
      card={(row) => (
        <div>
          <Where row={row} /> {what(row)} <div>{row.to.join(', ')}</div>
        </div>
      )}
      columns={[
        { title: 'Sent', width: 190, render: (_, row) => <Where row={row} /> },
        { title: 'Whom', width: 220, render: (_, row) => row.to.join(', ') },
        { title: 'What', render: (_, row) => what(row) },
      ]}
    />
  )
}

function Where({ row }: { row: Delivery }) {
  if (row.sent_at)
    return (
      <>
        ✓ <Ago at={row.sent_at} />
      </>
    )
  if (row.given_up)
    return <Typography.Text type="danger">✗ given up: {row.message}</Typography.Text>
  if (!row.tries) return <>◌ waits</>
  return (
    <Typography.Text type="warning">
      ↻ {row.tries} tries, next <Ago at={row.next_try} />: {row.message}
    </Typography.Text>
  )
}
