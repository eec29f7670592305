import { expect, test } from 'vitest'
import type { Tool } from '../src/api'
import { expanded, schemaOf, variablesOf } from '../src/use/tryform'

test('a template is filled in as RFC 6570 says', () => {
  expect(variablesOf('quay://{port}/berths{?day,free*}')).toEqual(['port', 'day', 'free'])
  expect(expanded('quay://{port}/berths{?day,free}', { port: 'Ske rrow', day: 'mon' })).toBe('quay://Ske%20rrow/berths?day=mon')
  expect(expanded('file://{+path}{/part}', { path: '/a/b', part: 'c/d' })).toBe('file:///a/b/c%2Fd')
  expect(expanded('quay://{port}', {})).toBe('quay://')
})

test('a form is made of what a prompt takes, and of what a template leaves open', () => {
  const prompt = {
    name: 'handover',
    schema: {
      arguments: [
        { name: 'watch', required: true },
        { name: 'note', description: 'a word' },
      ],
    },
  }
  const form = schemaOf('prompt', prompt as unknown as Tool)
  expect(form.required).toEqual(['watch'])
  expect(form.properties?.note?.description).toBe('a word')
  expect(schemaOf('resource', { name: 'quay://{port}', schema: {} } as unknown as Tool).required).toEqual(['port'])
  expect(schemaOf('tool', undefined).properties).toEqual({})
})
