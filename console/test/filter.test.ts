import { describe, expect, it } from 'vitest'
import { useFilter } from '../src/use/filter'

describe('a filter', () => {
  it('matches any of the texts, in whatever case, and everything while it is empty', () => {
    const { filter, match, among } = useFilter()
    const list = [
      { name: 'Sailings', note: undefined },
      { name: 'tides', note: 'Chart notes' },
    ]
    expect(match('x')).toBe(true)
    filter.value = ' CHART '
    expect(match('tides', undefined, 'chart notes')).toBe(true)
    expect(match('tides', undefined)).toBe(false)
    expect(among(list, (i) => [i.name, i.note]).map((i) => i.name)).toEqual(['tides'])
    expect(among(undefined, () => [])).toEqual([])
  })

  it('begins with what a link asks for', () => {
    expect(useFilter('sail').match('Sailings')).toBe(true)
  })
})
