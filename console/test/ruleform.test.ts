import { describe, expect, it } from 'vitest'
import { FieldProblem, formOf, said, termsOf } from '../src/use/ruleform'

describe('the form of a rule', () => {
  const terms = {
    label: 'laptop',
    window: 'mon-fri 22:00-06:00 Europe/Oslo',
    ends: '2026-12-04T17:00:00.000Z',
    narrow: { properties: { litres: { maximum: 5000 } } },
    pins: { port: 'Skerrow', litres: 5, by: '${fullName}' },
    hide: ['price', 'items.*.address'],
    resultKiB: 4,
    holdSeconds: 90,
    deciders: ['group:dispatch', 'person:joss'],
    ownDecides: true,
  }
  it('says again what it was made of', () => {
    expect(JSON.parse(JSON.stringify(termsOf(formOf(terms))))).toEqual(terms)
    expect(JSON.parse(JSON.stringify(termsOf(formOf())))).toEqual({})
  })
  it('takes what people type', () => {
    expect(termsOf({ ...formOf(), pins: 'port = Holm Voe\nlitres=5\nsure = true' }).pins).toEqual({
      port: 'Holm Voe',
      litres: 5,
      sure: true,
    })
    expect(termsOf({ ...formOf(), deciders: 'group:dispatch,  role:admin' }).deciders).toEqual(['group:dispatch', 'role:admin'])
  })
  it('names the field that it cannot read', () => {
    for (const [field, bad] of [
      ['narrow', { narrow: '{' }],
      ['when', { when: 'litres < 5' }],
      ['pins', { pins: 'Skerrow' }],
      ['resultKiB', { resultKiB: 'many' }],
      ['holdSeconds', { holdMinutes: '-1' }],
    ] as const) {
      try {
        termsOf({ ...formOf(), ...bad })
        expect.unreachable(field)
      } catch (err) {
        expect(err).toBeInstanceOf(FieldProblem)
        expect((err as FieldProblem).field).toBe(field)
      }
    }
  })
  it('counts what a folded part holds', () => {
    expect(said(formOf(terms), ['label', 'person', 'ownDecides'])).toBe(2)
  })
})
