import { expect, test } from 'vitest'
import { age, cut, files, location, MARKS, place, size, span, tidy, tone } from './words'

test('sizes are binary with one decimal, bytes exact', () => {
  expect([size(0), size(1023), size(1024), size(3.1 * 1024 ** 3), size(null)]).toEqual([
    '0 B',
    '1,023 B',
    '1.0 KiB',
    '3.1 GiB',
    '',
  ])
})

test('ages look back and ahead', () => {
  const now = Date.parse('2026-03-02T12:00:00Z')
  expect(age('2026-03-02T11:56:00Z', now)).toBe('4 min ago')
  expect(age('2026-03-02T15:05:00Z', now)).toBe('in 3 h 5 min')
  expect(age(null, now)).toBe('never')
  expect(span(3 * 86400)).toBe('3 days')
})

test('a place is store and path, and comes back the same', () => {
  for (const at of ['pine://office/larkfell/dawn/', 'pine://posts/', 'pine://office/a%20b?x#y'])
    expect(location(place(at))).toBe(at)
})

test('a pasted path loses its quotes, back slashes and leading slash, nothing else', () => {
  expect(tidy('"dawn\\a b\\"')).toBe('dawn/a b/')
  expect(tidy(" '/sheets' ")).toBe('sheets')
  expect(tidy('50% + #1?/')).toBe('50% + #1?/')
})

test('long places are cut in the middle', () => {
  expect(cut('abcdefghij', 5)).toBe('ab…ij')
  expect(cut('abc', 5)).toBe('abc')
})

test('every mark has a word beside it, and only what needs a person is amber', () => {
  for (const mark of Object.values(MARKS)) expect(mark).toMatch(/^\S \S+/)
  expect(Object.keys(MARKS).filter((w) => tone(w) === 'person')).toEqual([
    'problems',
    'held',
    'interrupted',
  ])
  expect([files(1), files(1200)]).toEqual(['1 file', '1,200 files'])
})
