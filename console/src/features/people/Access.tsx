/** Sessions and tokens: one's own, or everybody's. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Button, Empty, Popconfirm, Tag, Typography } from 'antd'
import { api, got, type OpenSession, type Token } from '../../api/client'
import { sessionsQuery, tokensQuery } from '../../api/people'
import { Ago, Failed, Loaded } from '../../parts/parts'
import { DataTable } from '../../parts/DataTable'

export function SessionsTable({ everybodys }: { everybodys: boolean }) {
  const queries = useQueryClient()
  const query = useQuery(sessionsQuery(everybodys))
  const end = useMutation({
    mutationFn: (number: number) =>
      got(api.DELETE('/api/v1/sessions/{number}', { params: { path: { number } } })),
    onSuccess: () => queries.invalidateQueries(),
  })
  return (
    <>
      {end.error && <Failed error={end.error} />}
      <Loaded query={query}>
        {(sessions) => (
          <DataTable<OpenSession>
            rowKey="id"
            rows={sessions}
            pagination={{ pageSize: 20, hideOnSinglePage: true }}
            scroll={{ x: 'max-content' }}
            columns={[
              ...(everybodys ? [{ title: 'Whose', dataIndex: 'of' }] : []),
              { title: 'Last used', render: (_, s) => <Ago at={s.seen_at} /> },
              { title: 'Since', render: (_, s) => <Ago at={s.begun_at} /> },
              { title: 'From', dataIndex: 'address' },
              {
                title: 'Browser',
                render: (_, s) => (
                  <span
                    style={{ display: 'inline-block', maxWidth: 360, overflowWrap: 'anywhere' }}
                  >
                    {s.agent}
                  </span>
                ),
              },
              {
                title: '',
                render: (_, s) =>
                  s.this ? (
                    <Tag>this one</Tag>
                  ) : (
                    <Button size="small" onClick={() => end.mutate(s.id)}>
                      End it
                    </Button>
                  ),
              },
            ]}
          />
        )}
      </Loaded>
    </>
  )
}

const carries = (token: Token) => {
  if (token.reads_calendar) return 'reads the calendar'
  return token.starts ? `starts ${token.starts}` : token.right || 'all of its person’s rights'
}

export function TokensTable({ everybodys }: { everybodys: boolean }) {
  const queries = useQueryClient()
  const query = useQuery(tokensQuery(everybodys))
  const revoke = useMutation({
    mutationFn: (number: number) =>
      got(api.DELETE('/api/v1/tokens/{number}', { params: { path: { number } } })),
    onSuccess: () => queries.invalidateQueries(),
  })
  return (
    <>
      {revoke.error && <Failed error={revoke.error} />}
      <Loaded query={query}>
        {(tokens) =>
          tokens.length === 0 ? (
            <Empty
              image={Empty.PRESENTED_IMAGE_SIMPLE}
              description="No tokens. A token lets a program ask in your name."
            />
          ) : (
            <DataTable<Token>
              rowKey="id"
              rows={tokens}
              pagination={{ pageSize: 20, hideOnSinglePage: true }}
              scroll={{ x: 'max-content' }}
              columns={[
                ...(everybodys ? [{ title: 'Whose', dataIndex: 'of' }] : []),
                { title: 'Token', dataIndex: 'name' },
                { title: 'Carries', render: (_, t) => carries(t) },
                { title: 'Made', render: (_, t) => <Ago at={t.made_at} /> },
                { title: 'Last used', render: (_, t) => <Ago at={t.used_at} /> },
                {
                  title: 'Ends',
                  render: (_, t) =>
                    t.expires_at ? (
                      <Ago at={t.expires_at} />
                    ) : (
                      <Typography.Text type="warning">◆ never</Typography.Text>
                    ),
                },
                {
                  title: '',
                  render: (_, t) => (
                    <Popconfirm
                      title={`Revoke ${t.name}?`}
                      description="Whatever uses it is shut out at once, and so are tokens that it made."
                      okText="Revoke it"
                      onConfirm={() => revoke.mutate(t.id)}
                    >
                      <Button size="small" danger>
                        Revoke
                      </Button>
                    </Popconfirm>
                  ),
                },
              ]}
            />
          )
        }
      </Loaded>
    </>
  )
}
