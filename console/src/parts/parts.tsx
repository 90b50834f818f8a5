/** The small parts that every page is made of. */
import { useQuery } from '@tanstack/react-query'
import { Alert, Button, Flex, Grid, Skeleton, theme, Tooltip, Typography } from 'antd'
import type { ReactNode } from 'react'
import { Link } from 'react-router'
import { Refusal } from '../api/client'
import { sessionQuery } from '../api/session'
import { useNow } from '../hooks/live'
import {
  age,
  cut,
  exact,
  isOneOff,
  jobWords,
  MARKS,
  place,
  size,
  tone,
  type Tone,
} from '../lib/words'

/** The colour of an outcome or state. */
export function useToneColour(): (word: string) => string {
  const { token } = theme.useToken()
  const colours: Record<Tone, string> = {
    good: token.colorSuccess,
    person: token.colorWarning,
    bad: token.colorError,
    calm: token.colorTextSecondary,
  }
  return (word) => colours[tone(word)]
}

/** An outcome or state: a shape, a word and a colour, always together. */
export function Mark({ word, strong = false }: { word: string; strong?: boolean }) {
  const toneColour = useToneColour()
  return (
    <span style={{ color: toneColour(word), whiteSpace: 'nowrap', fontWeight: strong ? 600 : 400 }}>
      {MARKS[word] ?? word}
    </span>
  )
}

/** `4 min ago`, with the exact time on hover, focus and tap. */
export function Ago({ at, never = 'never' }: { at: string | null | undefined; never?: string }) {
  const now = useNow()
  if (!at) return <Typography.Text type="secondary">{never}</Typography.Text>
  return (
    <Tooltip title={exact(at)} trigger={['hover', 'focus', 'click']}>
      <span tabIndex={0} style={{ whiteSpace: 'nowrap' }}>
        {age(at, now)}
      </span>
    </Tooltip>
  )
}

/** A place: monospaced, cut in the middle, whole on hover and focus; a click opens it, a button copies it. */
export function At({ location, limit = 44 }: { location: string; limit?: number }) {
  const at = place(location)
  return (
    <Flex component="span" align="baseline" gap={2} style={{ display: 'inline-flex', minWidth: 0 }}>
      <Tooltip title={location} trigger={['hover', 'focus']}>
        <Link
          to={`/stores/${at.store}?path=${encodeURIComponent(at.path)}`}
          style={{ overflowWrap: 'anywhere' }}
        >
          <Typography.Text code style={{ color: 'inherit' }}>
            {cut(location.replace('pine://', ''), limit)}
          </Typography.Text>
        </Link>
      </Tooltip>
      <Typography.Text
        copyable={{ text: location, tooltips: [`Copy ${location}`, 'Copied'] }}
        aria-label={`Copy ${location}`}
      />
    </Flex>
  )
}

/** From → to; stacked where the screen is narrow. */
export function FromTo({ from, to }: { from: string; to: string }) {
  const narrow = !Grid.useBreakpoint().sm
  if (from === to) return <At location={from} /> // a removal has one place
  return (
    <Flex
      component="span"
      vertical={narrow}
      align={narrow ? 'flex-start' : 'center'}
      gap={narrow ? 0 : 6}
      wrap
      style={{ display: 'inline-flex' }}
    >
      <At location={from} />
      <span>
        → <At location={to} />
      </span>
    </Flex>
  )
}

/** Bytes for people, exact ones on hover, focus and tap. */
/** A job, one step away; or what has none of its own. */
export function JobName({ job }: { job: string }) {
  return isOneOff(job) ? <>{jobWords(job)}</> : <Link to={`/jobs/${job}`}>{job}</Link>
}

export function Bytes({ n }: { n: number | null | undefined }) {
  if (n == null) return null
  return (
    <Tooltip title={`${n.toLocaleString('en')} bytes`} trigger={['hover', 'focus', 'click']}>
      <span style={{ fontVariantNumeric: 'tabular-nums', whiteSpace: 'nowrap' }}>{size(n)}</span>
    </Tooltip>
  )
}

/** What failed, the code, and try again. */
export function Failed({ error, again }: { error: unknown; again?: () => void }) {
  const refusal = error instanceof Refusal ? error : null
  return (
    <Alert
      type="error"
      role="alert"
      showIcon={false}
      title={`✗ ${refusal?.message ?? String(error)}`}
      description={
        <Flex justify="space-between" align="center" gap={12} wrap>
          <span>
            Code: <code>{refusal?.code ?? 'console'}</code>
          </span>
          {again && <Button onClick={again}>Try again</Button>}
        </Flex>
      }
    />
  )
}

/** A page's content: its outline while it loads, the error if it failed. */
export function Loaded<T>({
  query,
  children,
}: {
  query: { data?: T; error: unknown; refetch: () => unknown }
  children: (data: T) => ReactNode
}) {
  if (query.data !== undefined)
    return (
      <>
        {query.error ? <Stale error={query.error} again={() => void query.refetch()} /> : null}
        {children(query.data)}
      </>
    )
  if (query.error) return <Failed error={query.error} again={() => void query.refetch()} />
  return <Coming />
}

/** The outline of what is on its way. */
export function Coming() {
  return (
    <div role="progressbar" aria-busy="true" aria-label="Loading">
      <Skeleton active={false} paragraph={{ rows: 6 }} />
    </div>
  )
}

/** What is shown is what was last heard: the newest answer is missing. */
function Stale({ error, again }: { error: unknown; again: () => void }) {
  return (
    <Alert
      type="warning"
      role="alert"
      showIcon={false}
      style={{ marginBottom: 12 }}
      title={`▲ Not up to date: ${error instanceof Error ? error.message : String(error)} What you see is what was last heard.`}
      action={
        <Button size="small" onClick={again}>
          Try again
        </Button>
      }
    />
  )
}

export function useSession() {
  return useQuery(sessionQuery())
}

/** Whether the person signed in holds a right somewhere. */
export function useMay(right: string): boolean {
  return useSession().data?.rights.includes(right) ?? false
}

export function PageHead({ title, children }: { title: ReactNode; children?: ReactNode }) {
  return (
    <Flex justify="space-between" align="center" gap={12} wrap style={{ marginBottom: 16 }}>
      <h1 style={{ fontSize: 22, fontWeight: 600, lineHeight: 1.3, margin: 0 }}>{title}</h1>
      <Flex gap={8} wrap>
        {children}
      </Flex>
    </Flex>
  )
}
