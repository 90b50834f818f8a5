/** The zone in which times are shown: a person's own choice, kept in this browser; UTC without. */
const KEY = 'zone'
const listeners = new Set<() => void>()

export const ownZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone

export const zone = {
  now: (): string => globalThis.localStorage?.getItem(KEY) ?? 'UTC',
  choose: (name: string) => {
    globalThis.localStorage.setItem(KEY, name)
    listeners.forEach((tell) => tell())
  },
  subscribe: (tell: () => void) => {
    listeners.add(tell)
    return () => listeners.delete(tell)
  },
}

/** `2026-03-02 05:30:00 Europe/London` */
export function inZone(at: string, name: string): string {
  if (name === 'UTC') return `${at.slice(0, 19).replace('T', ' ')} UTC`
  const parts = new Intl.DateTimeFormat('sv-SE', {
    timeZone: name,
    dateStyle: 'short',
    timeStyle: 'medium',
  }).format(new Date(at))
  return `${parts} ${name}`
}
