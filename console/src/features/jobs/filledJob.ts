/** A job as its form has it: filled in from a definition, and read back into one. */
import { api, got, type Definition, type Forms, type JobOption } from '../../api/client'
import { filledIn } from '../../parts/FieldInput'
import { location, place } from '../../lib/words'
import { optionsOf } from './JobOptions'
import { scheduleOf, triggerOf } from './TriggerInput'

export interface Values extends Record<string, unknown> {
  job: string
  title?: string
  why?: string
  labels?: string[]
  from: { store: string; path: string }
  to: { store: string; path: string }
}

export function initial(old: Definition | undefined, forms: Forms): Values {
  const leg = old?.legs[0]
  const none = { store: '', path: '' }
  return {
    intent: 'renew',
    ...leg, // its options by their names
    ...old,
    ...triggerOf(old, forms.triggers),
    job: old?.job ?? '',
    from: leg ? place(leg.from) : none,
    to: leg ? place(leg.to) : none,
  }
}

export function definition(values: Values, old: Definition | undefined, forms: Forms): Definition {
  const at = (p: Values['from']) => location({ store: p.store, path: p.path ?? '' })
  const options = optionsOf(forms, 'job')
  const isAsked = (o: JobOption) =>
    !o.shown_for.length || o.shown_for.includes(String(values.intent))
  const leg = {
    ...(old?.legs[0]?.one ? { one: old.legs[0].one } : {}),
    from: at(values.from),
    to: at(values.to),
    ...filledIn(
      options.filter((o) => o.is_of_leg),
      values,
    ),
  }
  return {
    job: values.job,
    title: values.title ?? '',
    why: values.why ?? '',
    labels: values.labels ?? [],
    ...(old?.owner ? { owner: old.owner } : {}),
    ...filledIn(
      options.filter((o) => !o.is_of_leg && isAsked(o)),
      values,
    ),
    legs: [leg, ...(old?.legs.slice(1) ?? [])],
    schedule: scheduleOf(values, forms.triggers),
  }
}

/** A name that says from where and to where. */
export function suggested(from: Values['from'] | undefined, to: Values['to'] | undefined): string {
  const last = (path?: string) => path?.split('/').filter(Boolean).at(-1)
  const words = [last(from?.path) ?? from?.store, 'to', to?.store].join('-')
  return words
    .toLowerCase()
    .replace(/[^a-z0-9-]+/g, '-')
    .slice(0, 63)
}

export type Then = '' | 'preview' | 'try' | 'start'

/** Whatever was wanted after it was saved; gives the page that follows. */
export async function afterSaving(job: string, then: Then): Promise<string> {
  const path = { params: { path: { name: job } } }
  if (!then) return `/jobs/${job}`
  if (then === 'preview') {
    const run = await got(
      api.POST('/api/v1/jobs/{name}/preview', { ...path, body: { wait: false } }),
    )
    return `/previews/${run.id}`
  }
  const body = then === 'try' ? { first: 5 } : {}
  const run = await got(api.POST('/api/v1/jobs/{name}/start', { ...path, body }))
  return `/runs/${run.id}`
}
