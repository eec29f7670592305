import { beforeEach, describe, expect, it } from 'vitest'
import { missing, pageFailed, pageLoaded } from '../src/use/pageload'

describe('a page whose part of the console cannot be loaded', () => {
  const had = new Map<string, string>()
  const kept = {
    getItem: (key: string) => had.get(key) ?? null,
    setItem: (key: string, value: string) => void had.set(key, value),
    removeItem: (key: string) => void had.delete(key),
  }
  const loads: string[] = []
  beforeEach(() => {
    had.clear()
    loads.length = 0
    missing.value = ''
  })

  it('is loaded again as a whole, once, and then says so', () => {
    pageFailed('/reach', kept, (path) => loads.push(path))
    expect([loads, missing.value]).toEqual([['/reach'], ''])
    pageFailed('/reach', kept, (path) => loads.push(path))
    expect([loads, missing.value]).toEqual([['/reach'], '/reach'])
  })

  it('is tried anew after another page was there', () => {
    pageFailed('/reach', kept, (path) => loads.push(path))
    pageLoaded(kept)
    pageFailed('/reach', kept, (path) => loads.push(path))
    expect([loads.length, missing.value, had.size]).toEqual([2, '', 1])
    pageFailed('/rules', kept, (path) => loads.push(path))
    expect(loads).toEqual(['/reach', '/reach', '/rules'])
  })
})
