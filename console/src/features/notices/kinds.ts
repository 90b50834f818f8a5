import type { Notice } from '../../api/client'

export type Kind = Notice['kinds'][number]

/** What one may be told of, the ones first that most people want. */
export const KINDS: Record<Kind, string> = {
  problems: '▲ problems',
  failed: '✗ failed',
  held: '◆ waiting for a yes',
  late: '▲ late',
  missed: '◇ did not run',
  'expected-not-come': '▲ expected and not come',
  recovered: '✓ well again',
  unusual: '▲ unusual',
  done: '✓ done',
  daily: '○ once a day',
}
export const USUAL = (Object.keys(KINDS) as Kind[]).filter((k) => k !== 'done' && k !== 'daily')

export const kindWords = (kinds: readonly Kind[]) =>
  (Object.keys(KINDS) as Kind[])
    .filter((kind) => kinds.includes(kind))
    .map((kind) => KINDS[kind])
    .join(', ')
