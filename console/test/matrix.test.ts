import { describe, expect, it } from 'vitest'
import { arrange, count, visible } from '../src/use/matrix'

const m = {
  servers: [
    { server: 'sailings', labels: ['quayside'], tools: [{ name: 'find_sailings' }, { name: 'cancel_sailing', destructive: true }] },
    { server: 'fuel', tools: [{ name: 'order_fuel', destructive: true }] },
  ],
  agents: [
    { name: 'marit-quill', owner: 'marit', labels: ['laptop'], cells: ['ah', 'n'] },
    { name: 'quay-voice', owner: '', cells: ['ar', 'r'] },
  ],
}
const said = (filter: string, folded: string[] = [], destructive = false) => {
  const { lines, columns } = arrange(m, filter, new Set(folded), destructive)
  return lines.map((l) => l.tool || l.server).join(' ') + ' | ' + columns.map((c) => c.name).join(' ')
}

describe('the matrix of reach', () => {
  it('picks columns by what agents are, and lines by what tools are', () => {
    expect(said('')).toBe('sailings find_sailings cancel_sailing fuel order_fuel | marit-quill quay-voice')
    expect(said('laptop')).toBe('sailings find_sailings cancel_sailing fuel order_fuel | marit-quill')
    expect(said('voice cancel')).toBe('sailings cancel_sailing | quay-voice')
    expect(said('quayside', ['sailings'])).toBe('sailings | marit-quill quay-voice')
    expect(said('', [], true)).toBe('sailings cancel_sailing fuel order_fuel | marit-quill quay-voice')
    expect(said('nothing')).toBe(' | marit-quill quay-voice')
  })
  it('counts what can be used', () => {
    const { columns } = arrange(m, '', new Set(), false)
    expect(columns.map((c) => [count(m, c, 0), count(m, c, 1)])).toEqual([
      ['all', 'all'],
      ['1', ''],
    ])
  })
  it('draws what can be seen', () => {
    expect(visible(0, 100, 20, 1000)).toEqual({ from: 0, to: 9 })
    expect(visible(2000, 100, 20, 1000)).toEqual({ from: 96, to: 109 })
    expect(visible(2000, 100, 20, 102)).toEqual({ from: 96, to: 102 })
  })
})
