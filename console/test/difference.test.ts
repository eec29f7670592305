import { describe, expect, it } from 'vitest'
import { compare } from '../src/use/difference'

const marked = (lines: { text: string; differs: boolean }[]) => lines.filter((l) => l.differs).map((l) => l.text.trim())

describe('the difference of two descriptions', () => {
  it('marks the lines that differ, whatever the order of members', () => {
    const { before, after } = compare(
      { name: 'a', description: 'Assigns.', inputSchema: { type: 'object' } },
      { inputSchema: { type: 'object', required: ['x'] }, description: 'Obeys.', name: 'a' },
    )
    expect(marked(before)).toEqual(['"description": "Assigns.",'])
    expect(marked(after)).toEqual(['"description": "Obeys.",', '"required": [', '"x"', '],'])
  })
  it('marks nothing of two that are the same, and all of a new one', () => {
    expect(marked(compare({ a: [1, 2] }, { a: [1, 2] }).after)).toEqual([])
    expect(compare(undefined, { a: 1 }).before).toEqual([])
    expect(marked(compare(undefined, { a: 1 }).after)).toEqual(['{', '"a": 1', '}'])
  })
})
