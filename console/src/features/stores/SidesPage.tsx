import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { Button, Empty, Flex, Form, Switch, Typography } from 'antd'
import { Link, useSearchParams } from 'react-router'
import { type Side } from '../../api/client'
import { sidesQuery, storesQuery } from '../../api/stores'
import { location, place } from '../../lib/words'
import { Bytes, Loaded, PageHead } from '../../parts/parts'
import { PlaceInput } from './PlaceInput'
import { DataTable } from '../../parts/DataTable'
import { More } from '../../parts/More'

const WORDS: Record<Side['word'], string> = {
  'same-size': '= same size',
  differs: '▲ differs',
  'only-here': '← only here',
  'only-there': '→ only there',
  'name-clash': '▲ name clash',
}

interface Values {
  from: { store: string; path?: string }
  to: { store: string; path?: string }
}

/** What lies here, and there? Two places as one list, merged by name. */
export default function SidesPage() {
  const [asked, setAsked] = useSearchParams()
  const here = asked.get('here') ?? ''
  const there = asked.get('there') ?? ''
  const stores = useQuery(storesQuery())
  const text = (p: Values['from']) => location({ store: p.store, path: p.path ?? '' })
  return (
    <>
      <PageHead title="Here and there">
        {here && there && (
          <Link to={`/copy?from=${encodeURIComponent(here)}`}>
            <Button>Copy from here</Button>
          </Link>
        )}
      </PageHead>
      <Loaded query={stores}>
        {(list) => (
          <Form<Values>
            layout="vertical"
            initialValues={{ from: here ? place(here) : {}, to: there ? place(there) : {} }}
            onFinish={(v) => setAsked({ here: text(v.from), there: text(v.to) })}
          >
            <Flex gap={16} wrap align="end">
              <div style={{ flex: 1, minWidth: 300 }}>
                <PlaceInput
                  which="from"
                  label="Here"
                  stores={list.map((s) => s.name)}
                  hint="path/"
                  help={{}}
                />
              </div>
              <div style={{ flex: 1, minWidth: 300 }}>
                <PlaceInput
                  which="to"
                  label="There"
                  stores={list.map((s) => s.name)}
                  hint="path/"
                  help={{}}
                />
              </div>
              <Form.Item>
                <Button type="primary" htmlType="submit">
                  Show
                </Button>
              </Form.Item>
            </Flex>
          </Form>
        )}
      </Loaded>
      {here && there && <Both here={here} there={there} />}
    </>
  )
}

function Both({ here, there }: { here: string; there: string }) {
  const [asked, setAsked] = useSearchParams()
  const different = asked.get('different') === '1'
  const query = useInfiniteQuery(sidesQuery(here, there, different))
  return (
    <>
      <Flex gap={8} align="center" style={{ marginBottom: 12 }}>
        <Switch
          aria-label="Only what differs"
          checked={different}
          onChange={(on) => setAsked({ here, there, ...(on ? { different: '1' } : {}) })}
        />{' '}
        Only what differs, by name and size
      </Flex>
      <Loaded query={query}>
        {(data) => {
          const rows = data.pages.flatMap((p) => p.entries)
          if (!rows.length)
            return (
              <Empty
                image={Empty.PRESENTED_IMAGE_SIMPLE}
                description={
                  different
                    ? 'Both places have the same names and sizes.'
                    : 'Both places are empty.'
                }
              />
            )
          return (
            <>
              <DataTable<Side>
                rowKey="key_id"
                rows={rows}
                columns={[
                  {
                    title: 'Name',
                    render: (_, r) => (
                      <Typography.Text code style={{ overflowWrap: 'anywhere' }}>
                        {r.key}
                      </Typography.Text>
                    ),
                  },
                  {
                    title: 'Here',
                    width: 110,
                    align: 'right',
                    render: (_, r) => (r.here == null ? '–' : <Bytes n={r.here} />),
                  },
                  {
                    title: 'There',
                    width: 110,
                    align: 'right',
                    render: (_, r) => (r.there == null ? '–' : <Bytes n={r.there} />),
                  },
                  { title: '', width: 130, render: (_, r) => WORDS[r.word] },
                  {
                    title: '',
                    width: 90,
                    render: (_, r) => (
                      <Link
                        to={`/find?name=${encodeURIComponent(r.key.split('/').at(-1) ?? r.key)}`}
                      >
                        its runs
                      </Link>
                    ),
                  },
                ]}
              />
              <More of={query} />
            </>
          )
        }}
      </Loaded>
    </>
  )
}
