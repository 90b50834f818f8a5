/** What the trail's lines tell, in words. Pure. */

export interface Change {
  field: string
  before: string
  after: string
}

const isRecord = (value: unknown): value is Record<string, unknown> =>
  typeof value === 'object' && value !== null && !Array.isArray(value)

export function words(value: unknown): string {
  if (value === null || value === undefined || value === '') return 'none'
  if (Array.isArray(value)) return value.length ? value.map(words).join(', ') : 'none'
  if (isRecord(value))
    return Object.entries(value)
      .map(([k, v]) => `${k} ${words(v)}`)
      .join(', ')
  return value === true ? 'yes' : value === false ? 'no' : String(value)
}

/** Each field that a change touched, in the order in which it was told. */
export function changesOf(facts: unknown): Change[] {
  if (!isRecord(facts)) return []
  const before = isRecord(facts.before) ? facts.before : {}
  const after = isRecord(facts.after) ? facts.after : {}
  return [...new Set([...Object.keys(before), ...Object.keys(after)])].map((field) => ({
    field: field.replace(/_/g, ' '),
    before: words(before[field]),
    after: words(after[field]),
  }))
}

/** Every other fact that says something. */
export function otherFacts(facts: unknown): string {
  if (!isRecord(facts)) return ''
  return Object.entries(facts)
    .filter(
      ([key, value]) =>
        !['before', 'after', 'digest'].includes(key) && words(value) !== 'none' && value !== false,
    )
    .map(([key, value]) => `${key.replace(/_/g, ' ')} ${words(value)}`)
    .join(' · ')
}
