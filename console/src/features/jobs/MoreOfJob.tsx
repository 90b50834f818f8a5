import { useMutation, useQueryClient } from '@tanstack/react-query'
import { App, Input, Modal, Typography } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, got, type Job } from '../../api/client'
import { useFirstField } from '../../hooks/firstField'
import { MoreMenu } from '../../parts/MoreMenu'
import { Failed } from '../../parts/parts'

type What = 'first' | 'copy' | 'turn' | 'switch' | 'drop'

/** What is seldom done with a job: copy, the way back, on and off, drop. */
export function MoreOfJob({ job }: { job: Job }) {
  const [what, setWhat] = useState<What | null>(null)
  const go = useNavigate()
  const ask = (key: What, label: string) => ({ key, label, onClick: () => setWhat(key) })
  const explain = () => void go(`/jobs/${job.job}/explain`)
  const items = [
    ask('first', 'Try the first files'),
    { key: 'explain', label: 'Why this file?', onClick: explain },
    ask('copy', 'Copy'),
    ask('turn', 'Define the way back'),
    ask('switch', job.is_on ? 'Switch off' : 'Switch on'),
    { ...ask('drop', 'Drop'), danger: true },
  ]
  return (
    <>
      <MoreMenu items={items} />
      {what && <Ask key={what} job={job} what={what} close={() => setWhat(null)} />}
    </>
  )
}

interface Question {
  title: string
  words: string
  /** What the text that is typed is; none: nothing is asked. */
  field?: string
  first: string
  ok: string
}

function questionOf(what: What, job: Job): Question {
  const name = job.job
  if (what === 'first')
    return {
      title: `Try the first files of ${name}`,
      words: 'So many files are copied or replaced, and nothing else is done: no removal.',
      field: 'How many',
      first: '10',
      ok: 'Start',
    }
  if (what === 'copy')
    return {
      title: `Copy ${name}`,
      words: 'What starts by itself is switched off in the copy until you have looked at it.',
      field: 'Name of the copy',
      first: `${name}-copy`,
      ok: 'Copy',
    }
  if (what === 'turn')
    return {
      title: `The way back of ${name}`,
      words: 'Takes from where this puts to, and puts to where this takes from.',
      field: 'Name of the way back',
      first: `${name}-back`,
      ok: 'Define it',
    }
  if (what === 'drop')
    return {
      title: `Forget ${name}?`,
      words: 'Its runs stay; nothing it carried is touched.',
      first: '',
      ok: 'Forget it',
    }
  const word = job.is_on ? 'off' : 'on'
  return {
    title: `Switch ${name} ${word}`,
    words: job.is_on
      ? 'Nothing starts it by itself any more; by hand it can be started still.'
      : 'It is started by itself again.',
    field: 'Why, for whoever asks later',
    first: '',
    ok: `Switch ${word}`,
  }
}

function Ask({ job, what, close }: { job: Job; what: What; close: () => void }) {
  const go = useNavigate()
  const queries = useQueryClient()
  const { message } = App.useApp()
  const question = questionOf(what, job)
  const [text, setText] = useState(question.first)
  const { field, afterOpenChange } = useFirstField()
  const act = useMutation({
    mutationFn: () => done(what, job, text),
    onSuccess: async (to) => {
      close()
      if (what === 'drop') void message.info(`Job ${job.job} is forgotten. Its runs stay.`)
      if (to) await go(to)
      await queries.invalidateQueries()
    },
  })
  return (
    <Modal
      open
      title={question.title}
      okText={question.ok}
      okButtonProps={{ danger: what === 'drop', loading: act.isPending }}
      onOk={() => act.mutate()}
      onCancel={close}
      afterOpenChange={afterOpenChange}
    >
      <Typography.Paragraph>{question.words}</Typography.Paragraph>
      {question.field && (
        <label>
          {question.field}
          <Input
            ref={field}
            value={text}
            onChange={(e) => setText(e.target.value)}
            onPressEnter={() => act.mutate()}
          />
        </label>
      )}
      {act.error != null && <Failed error={act.error} />}
    </Modal>
  )
}

/** Does it; where to go then. */
async function done(what: What, job: Job, text: string): Promise<string> {
  const path = { params: { path: { name: job.job } } }
  if (what === 'drop') {
    await got(api.DELETE('/api/v1/jobs/{name}', path))
    return '/jobs'
  }
  if (what === 'first') {
    const body = { first: Number(text) }
    const run = await got(api.POST('/api/v1/jobs/{name}/start', { ...path, body }))
    return `/runs/${run.id}`
  }
  if (what === 'switch') {
    const body = { on: !job.is_on, why: text }
    await got(api.POST('/api/v1/jobs/{name}/switch', { ...path, body }))
    return ''
  }
  const body = { job: text.trim(), turned: what === 'turn' }
  const made = await got(api.POST('/api/v1/jobs/{name}/copy', { ...path, body }))
  return `/jobs/${made.job}`
}
