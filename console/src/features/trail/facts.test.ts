import { expect, test } from 'vitest'
import { changesOf, otherFacts } from './facts'

test('a change is told field by field', () => {
  const facts = {
    before: { active: true, rights: ['look'] },
    after: { active: false, rights: [] },
    new_password: false,
  }
  expect(changesOf(facts)).toEqual([
    { field: 'active', before: 'yes', after: 'no' },
    { field: 'rights', before: 'look', after: 'none' },
  ])
  expect(otherFacts(facts)).toBe('')
})

test('other facts are told as they are', () => {
  expect(otherFacts({ run: 7, names: ['a', 'b'], digest: 'x', why: '' })).toBe('run 7 · names a, b')
  expect(changesOf(null)).toEqual([])
})
