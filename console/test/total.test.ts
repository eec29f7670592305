import { expect, test } from 'vitest'
import { mayRecount } from '../src/use/total'

test('a count is made again by itself when it has stood for a while, and longer when it took long', () => {
  expect(mayRecount(9_999, 0, 5)).toBe(false)
  expect(mayRecount(10_000, 0, 5)).toBe(true)
  expect(mayRecount(100_000, 0, 11_000)).toBe(false)
  expect(mayRecount(110_000, 0, 11_000)).toBe(true)
})
