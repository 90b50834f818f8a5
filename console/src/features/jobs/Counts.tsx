import { Card, Descriptions, Typography } from 'antd'
import type { LegCounted } from '../../api/client'
import { count, files, REASONS, size } from '../../lib/words'
import { At } from '../../parts/parts'

export type IntentCounts = Record<string, Record<string, number>>

const WORDS: [string, string][] = [
  ['remove', 'removes'],
  ['clear', 'clears at the source'],
  ['replace', 'replaces'],
  ['copy', 'copies'],
  ['compare', 'looks closer at'],
]

/** What an intent would do, in a few words; what isn't done at all is left out. */
export function countsInWords(counts: Record<string, number> | undefined, isAll: boolean): string {
  if (!counts) return ''
  const said = WORDS.filter(([word]) => counts[word]).map(
    ([word, words]) => `${words} ${count(counts[word] ?? 0)}`,
  )
  if (!said.length) return isAll ? 'nothing to do now' : ''
  return `${isAll ? 'now ' : 'at least '}${said.join(', ')}`
}

/** Of all legs together. */
export function ofAllLegs(legs: LegCounted[]): IntentCounts {
  const sums: IntentCounts = {}
  for (const leg of legs)
    for (const [intent, counts] of Object.entries(leg.counted?.by_intent ?? {})) {
      const sum = (sums[intent] ??= {})
      for (const [word, n] of Object.entries(counts)) sum[word] = (sum[word] ?? 0) + n
    }
  return sums
}

export const sawAll = (legs: LegCounted[]) => legs.every((leg) => leg.counted?.is_all)

/** What lies at both sides of a job that is being defined, and what its rules leave out. */
export function Counts({ legs, isAsking }: { legs: LegCounted[]; isAsking: boolean }) {
  if (!legs.length) return null
  return (
    <Card
      size="small"
      title="What lies there now"
      style={{ marginTop: 12 }}
      aria-busy={isAsking}
      role="region"
      aria-label="What lies there now"
      aria-live="polite"
    >
      {legs.map((leg) => (
        <LegCounts key={leg.places.from + leg.places.to} leg={leg} />
      ))}
    </Card>
  )
}

function LegCounts({ leg }: { leg: LegCounted }) {
  const found = leg.counted
  if (!found) return <Typography.Text type="warning">▲ {leg.message}</Typography.Text>
  const least = found.is_all ? '' : 'at least '
  const left = Object.entries(found.left_out).filter(([, n]) => n)
  const amount = (of: { objects: number; bytes: number }) =>
    `${least}${files(of.objects)}, ${size(of.bytes)}`
  return (
    <Descriptions
      size="small"
      column={1}
      items={[
        { key: 'from', label: 'From', children: amount(found.here) },
        { key: 'to', label: 'To', children: amount(found.there) },
        ...left.map(([reason, n]) => ({
          key: reason,
          label: 'Left out',
          children: `${least}${files(n)}: ${REASONS[reason] ?? reason}`,
        })),
        ...(found.example
          ? [
              {
                key: 'example',
                label: 'For example',
                children: (
                  <span>
                    <At location={found.example.from} /> → <At location={found.example.to} />
                  </span>
                ),
              },
            ]
          : []),
      ]}
    />
  )
}
