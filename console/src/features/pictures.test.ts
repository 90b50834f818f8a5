import { expect, test } from 'vitest'
import { inZone } from '../lib/zone'
import { countsInWords, ofAllLegs } from './jobs/Counts'
import { usualRange } from './jobs/usual'
import { ratesOf } from './runs/rates'

test('how fast it went is told between points, and a step back is none', () => {
  const course = [
    [5, 0, 0],
    [7, 200, 4],
    [8, 100, 4],
    [8, 100, 4],
  ]
  expect(ratesOf(course)).toEqual([
    { at: 2, bytes: 100, objects: 2 },
    { at: 3, bytes: 0, objects: 0 },
  ])
  expect(ratesOf([])).toEqual([])
  const long = Array.from({ length: 1000 }, (_, n) => [n, n * 10, n])
  expect(ratesOf(long).length).toBeLessThanOrEqual(121)
  expect(ratesOf(long).at(-1)).toEqual({ at: 999, bytes: 10, objects: 1 })
})

test('the usual range leaves the odd ones out', () => {
  expect(usualRange([5, 4, 6, 5, 5, 4, 6, 5, 5, 900])).toEqual([4, 6])
  expect(usualRange([3])).toEqual([3, 3])
})

test('a time is told in the zone that was chosen', () => {
  expect(inZone('2026-03-02T05:30:00Z', 'UTC')).toBe('2026-03-02 05:30:00 UTC')
  expect(inZone('2026-07-02T05:30:00Z', 'Europe/London')).toBe('2026-07-02 06:30:00 Europe/London')
})

test('what an intent would do is said, and no more than is known', () => {
  expect(countsInWords({ remove: 2, copy: 1200, leave: 9 }, true)).toBe(
    'now removes 2, copies 1,200',
  )
  expect(countsInWords({ copy: 3 }, false)).toBe('at least copies 3')
  expect(countsInWords({ leave: 9 }, true)).toBe('nothing to do now')
  expect(countsInWords({ leave: 9 }, false)).toBe('')
  const leg = { places: { from: '', to: '' }, message: '' }
  const counted = (copy: number) =>
    ({ ...leg, counted: { by_intent: { renew: { copy } } } }) as unknown as Parameters<
      typeof ofAllLegs
    >[0][number]
  expect(ofAllLegs([counted(1), counted(2), { ...leg, counted: null }])).toEqual({
    renew: { copy: 3 },
  })
})
