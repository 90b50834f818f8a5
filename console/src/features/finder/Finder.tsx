import { useQuery } from '@tanstack/react-query'
import { Button, Input, List, Modal, Typography } from 'antd'
import { useEffect, useState } from 'react'
import { useNavigate } from 'react-router'
import { jobsQuery } from '../../api/jobs'
import { storesQuery } from '../../api/stores'
import { useFirstField } from '../../hooks/firstField'
import { isTyping } from '../../lib/typing'

const JOBS = 8

interface Found {
  to: string
  title: string
  kind: string
}

/** One key opens it: jobs, runs, stores, pages and what can be done, by a part of their names. */
export function Finder({ pages }: { pages: readonly (readonly [string, string])[] }) {
  const [isOpen, setOpen] = useState(false)
  useEffect(() => {
    const heard = (event: KeyboardEvent) => {
      const isKey = event.key === 'k' && (event.ctrlKey || event.metaKey)
      if (!isKey && !(event.key === '/' && !isTyping(event.target))) return
      event.preventDefault()
      setOpen(true)
    }
    globalThis.addEventListener('keydown', heard)
    return () => globalThis.removeEventListener('keydown', heard)
  }, [])
  return (
    <>
      <Button type="text" onClick={() => setOpen(true)} aria-label="Find anything" title="Ctrl+K">
        ⌕
      </Button>
      {isOpen && <Panel pages={pages} onClose={() => setOpen(false)} />}
    </>
  )
}

function Panel({
  pages,
  onClose,
}: {
  pages: readonly (readonly [string, string])[]
  onClose: () => void
}) {
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const [isTaken, setTaken] = useState(false)
  const go = useNavigate()
  const { field, afterOpenChange } = useFirstField()
  const { found, isAnswered } = useFound(text.trim(), pages)
  const chosen = found[at]?.to
  useEffect(() => {
    if (!isTaken || !isAnswered || !chosen) return
    onClose()
    void go(chosen)
  }, [isTaken, isAnswered, chosen, onClose, go])
  const move = (by: number) => setAt((n) => Math.min(Math.max(n + by, 0), found.length - 1))
  return (
    <Modal
      open
      onCancel={onClose}
      footer={null}
      title="Find anything"
      destroyOnHidden
      afterOpenChange={afterOpenChange}
    >
      <Input
        ref={field}
        aria-label="A part of a name, or a run's number"
        placeholder="A job, a store, a page, a run's number"
        value={text}
        onChange={(event) => {
          setText(event.target.value)
          setAt(0)
          setTaken(false)
        }}
        onKeyDown={(event) => {
          if (event.key === 'ArrowDown') move(1)
          else if (event.key === 'ArrowUp') move(-1)
          else if (event.key === 'Enter') setTaken(true)
          else return
          event.preventDefault()
        }}
      />
      <List
        size="small"
        style={{ marginTop: 8, minHeight: 260 }}
        locale={{ emptyText: 'Nothing of this name.' }}
        dataSource={found}
        renderItem={(one, n) => (
          <List.Item style={{ padding: 0 }}>
            <Button
              type={n === at ? 'default' : 'text'}
              block
              style={{ justifyContent: 'space-between', display: 'flex' }}
              onClick={() => {
                onClose()
                void go(one.to)
              }}
            >
              {one.title} <Typography.Text type="secondary">{one.kind}</Typography.Text>
            </Button>
          </List.Item>
        )}
      />
    </Modal>
  )
}

const ACTIONS: Found[] = [
  { to: '/jobs/new', title: 'Define a job', kind: 'do' },
  { to: '/jobs/new?guided', title: 'Define a job, step by step', kind: 'do' },
  { to: '/jobs/files', title: 'Bring in jobs from a file', kind: 'do' },
  { to: '/stores/new', title: 'Add a store', kind: 'do' },
]

/** What answers to the text, and whether it is the whole answer: Enter waits for that. */
function useFound(text: string, pages: readonly (readonly [string, string])[]) {
  const jobs = useQuery(jobsQuery({ find: text, limit: JOBS }))
  const stores = useQuery(storesQuery())
  const all: Found[] = [
    ...pages.map(([to, title]) => ({ to, title, kind: 'page' })),
    ...ACTIONS,
    ...(stores.data ?? []).map((s) => ({ to: `/stores/${s.name}`, title: s.name, kind: 'store' })),
  ]
  const sought = text.toLowerCase()
  const named = all.filter((one) => one.title.toLowerCase().includes(sought))
  const runs: Found[] = /^\d+$/.test(text)
    ? [{ to: `/runs/${text}`, title: `Run ${text}`, kind: 'run' }]
    : []
  const found = (jobs.data?.jobs ?? []).map((job) => ({
    to: `/jobs/${job.job}`,
    title: job.job,
    kind: 'job',
  }))
  const answer = text ? [...runs, ...found, ...named] : [...found.slice(0, 5), ...named]
  return { found: answer.slice(0, 12), isAnswered: !jobs.isFetching && !stores.isLoading }
}
