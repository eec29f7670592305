import { describe, expect, it } from 'vitest'
import { initial, inputType, kindOf, pruned, resolve, type Schema } from '../src/use/schemaform'

describe('a form made from a schema', () => {
  it('gives each schema its field', () => {
    const rows: [Schema, string][] = [
      [{ type: 'object', properties: {} }, 'object'],
      [{ properties: { a: {} } }, 'object'],
      [{ type: 'object' }, 'json'],
      [{ type: 'array', items: { type: 'string' } }, 'array'],
      [{ type: 'array' }, 'json'],
      [{ enum: ['a', 1] }, 'choice'],
      [{ const: 7 }, 'choice'],
      [{ oneOf: [{ type: 'string' }] }, 'variants'],
      [{ anyOf: [{ type: 'string' }, { type: 'null' }] }, 'variants'],
      [{ type: ['integer', 'null'] }, 'number'],
      [{ type: 'boolean' }, 'boolean'],
      [{ type: 'string' }, 'text'],
      [{}, 'json'],
    ]
    for (const [schema, kind] of rows) expect(kindOf(schema), JSON.stringify(schema)).toBe(kind)
  })
  it('follows references within the document, and no further than it makes sense', () => {
    const root: Schema = { $defs: { 'a/b': { type: 'integer', title: 'A' }, loop: { $ref: '#/$defs/loop' } } }
    expect(resolve({ $ref: '#/$defs/a~1b', title: 'Mine' }, root)).toMatchObject({ type: 'integer', title: 'Mine' })
    expect(kindOf(resolve({ $ref: '#/$defs/loop' }, root))).toBe('json')
    const all = resolve({ allOf: [{ properties: { a: {} }, required: ['a'] }, { properties: { b: {} } }] }, root)
    expect(Object.keys(all.properties ?? {})).toEqual(['a', 'b'])
    expect(all.required).toEqual(['a'])
  })
  it('begins with defaults and what has to be there', () => {
    const schema: Schema = {
      type: 'object',
      properties: {
        quay: { type: 'string', default: 'north' },
        at: { type: 'object', properties: { n: { const: 1 } }, required: ['n'] },
        x: {},
      },
      required: ['quay', 'at', 'x'],
    }
    expect(initial(schema, schema)).toEqual({ quay: 'north', at: { n: 1 } })
  })
  it('sends only what was filled in', () => {
    expect(pruned({ a: '', b: undefined, c: 0, d: [undefined, 'x'], e: { f: '' } })).toEqual({ c: 0, d: ['x'], e: {} })
  })
  it('has an input for each format', () => {
    expect([inputType('date'), inputType('date-time'), inputType('uri'), inputType('other'), inputType()]).toEqual([
      'date',
      'datetime-local',
      'url',
      'text',
      'text',
    ])
  })
})
