/** Marks, sizes, ages: the same words as the terminal and the report use. */
import { inZone, zone } from './zone'

export const MARKS: Record<string, string> = {
  clean: '✓ clean',
  'nothing-to-do': '○ nothing to do',
  problems: '▲ problems',
  failed: '✗ failed',
  stopped: '□ stopped',
  skipped: '◇ skipped',
  queued: '◌ queued',
  working: '● working',
  held: '◆ waiting for your yes',
  paused: '◐ paused',
  interrupted: '↻ interrupted',
}

export type Tone = 'good' | 'calm' | 'person' | 'bad'

export function tone(word: string): Tone {
  if (word === 'clean') return 'good'
  if (word === 'problems' || word === 'held' || word === 'interrupted') return 'person'
  return word === 'failed' ? 'bad' : 'calm'
}

export function size(bytes: number | null | undefined): string {
  if (bytes == null) return ''
  let value = bytes
  let unit = 'B'
  for (unit of ['B', 'KiB', 'MiB', 'GiB', 'TiB']) {
    if (value < 1024 || unit === 'TiB') break
    value /= 1024
  }
  return unit === 'B'
    ? `${count(bytes)} B`
    : `${value.toLocaleString('en', { minimumFractionDigits: 1, maximumFractionDigits: 1 })} ${unit}`
}

export const count = (n: number): string => n.toLocaleString('en')

export const files = (n: number): string => `${count(n)} ${n === 1 ? 'file' : 'files'}`

export function span(seconds: number): string {
  const s = Math.round(seconds)
  if (s < 60) return `${s} s`
  if (s < 3600) return `${Math.floor(s / 60)} min`
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`
  return `${Math.floor(s / 86400)} days`
}

const TICK_S = 10

export function age(at: string | null | undefined, now: number): string {
  if (!at) return 'never'
  const seconds = (now - Date.parse(at)) / 1000
  if (seconds < 1 && seconds > -TICK_S) return 'just now' // the page's clock goes in steps
  return seconds >= 0 ? `${span(seconds)} ago` : `in ${span(-seconds)}`
}

/** The exact time, in the zone that was chosen. */
export const exact = (at: string | null | undefined): string => (at ? inZone(at, zone.now()) : '')

/** Cut in the middle, so that both ends of a place stay. */
export function cut(text: string, limit: number): string {
  if (text.length <= limit) return text
  const keep = limit - 1
  return `${text.slice(0, Math.floor(keep / 2))}…${text.slice(text.length - Math.ceil(keep / 2))}`
}

export interface Place {
  store: string
  path: string
}

export function place(location: string): Place {
  const rest = location.replace(/^pine:\/\//, '')
  const slash = rest.indexOf('/')
  return slash < 0
    ? { store: rest, path: '' }
    : { store: rest.slice(0, slash), path: rest.slice(slash + 1) }
}

export const location = (at: Place): string => `pine://${at.store}/${at.path}`

/** Quotes, back slashes and a leading slash taken off, as a desktop gives a path. */
export function tidy(path: string): string {
  return path
    .trim()
    .replace(/^["']|["']$/g, '')
    .replace(/\\/g, '/')
    .replace(/^\/+/, '')
}

export const REASONS: Record<string, string> = {
  new: 'it is new',
  changed: 'it changed',
  'missing-there': 'it was gone there',
  differs: 'it differs there',
  unproven: 'it could not be proven equal',
  same: 'it is unchanged',
  recognised: 'it was there already, proven equal',
  exists: 'something else lies there under this name',
  'changed-there': 'somebody changed it there',
  'both-changed': 'it changed at both sides',
  gone: 'it is gone at the source',
  foreign: 'it lies only there',
  proven: 'its copy is proven',
  asked: 'you asked for it',
  'row-dropped': 'it is gone at both sides',
  'below-a-file': 'a file lies where its folder would be',
  'too-young': 'it was touched a moment ago',
  'not-younger': 'it is no younger than the youngest there',
  later: 'a whole run would do it',
  overtaken: 'it is no longer as the preview saw it',
  awaited: 'another job has not taken it yet',
  undone: 'its run is undone',
  expired: 'its days are over',
  always: 'everything is sent again',
  'other-size': 'the job takes other sizes',
  'other-time': 'the job takes other times',
  'name-clash': 'another file gets this name too',
  'left-out': 'the job leaves it out',
  unreadable: 'it may not be read',
  'not-a-file': 'it is a link or special file',
  'unsafe-name': 'its name can’t be carried safely',
  'only-here': 'only here',
  'only-there': 'only there',
  'changed-since': 'changed since it was carried',
}

/** What is wrong with a bucket's name, or nothing: told while it is typed. */
export function bucketProblem(name: string): string {
  if (/[A-Z]/.test(name)) return 'Small letters only.'
  if (/[^a-z0-9.-]/.test(name)) return 'Letters, digits, hyphens and dots only.'
  if (name.length < 3) return 'At least 3 characters.'
  if (name.length > 63) return 'At most 63 characters.'
  if (/^[.-]|[.-]$/.test(name)) return 'It begins and ends with a letter or digit.'
  if (name.includes('..') || /^\d+\.\d+\.\d+\.\d+$/.test(name))
    return 'No two dots in a row, and not like an IP address.'
  return ''
}

/** What has no job of its own, by what stands for one. */
const ONE_OFFS: Record<string, string> = {
  carry: 'A copy',
  remove: 'A removal',
  'inventory-of-a-place': 'An inventory',
}
export const isOneOff = (job: string) => job in ONE_OFFS
export const jobWords = (job: string) => ONE_OFFS[job] ?? job

/** How a written file was proven. The service's reports use the same words. */
export const PROOFS: Record<string, string> = {
  'server-verified': 'the store checked the checksum that was sent along',
  'read-back': 'it was read back and compared',
  'server-copy': 'the store copied it inside itself, and says the checksum',
  'size-only': 'only its size could be compared',
}
