/** [seconds, bytes, objects] */
export type Point = number[]

export interface Rate {
  at: number
  bytes: number
  objects: number
}

const MOST = 120

/** How fast it went between points; of very many points some together. A step back is none. */
export function ratesOf(course: Point[]): Rate[] {
  const step = Math.ceil(course.length / MOST)
  const some = course.filter((_, n) => n % step === 0 || n === course.length - 1)
  const begun = course[0]?.[0] ?? 0
  const rates: Rate[] = []
  for (let n = 1; n < some.length; n++) {
    const [then = 0, hadBytes = 0, hadObjects = 0] = some[n - 1] ?? []
    const [now = 0, bytes = 0, objects = 0] = some[n] ?? []
    const seconds = now - then
    if (seconds > 0)
      rates.push({
        at: now - begun,
        bytes: Math.max(0, Math.round((bytes - hadBytes) / seconds)),
        objects: Math.max(0, Math.round((objects - hadObjects) / seconds)),
      })
  }
  return rates
}
