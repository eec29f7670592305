import type { Rule, RuleTerms } from '../api'

/** What the form of a rule holds: terms as people type them. */
export interface RuleForm {
  person: string
  role: string
  group: string
  label: string
  serverLabel: string
  hint: string
  tag: string
  bundle: string
  when: string
  window: string
  client: string
  revision: string
  network: string
  presence: string
  begins: string
  ends: string
  narrow: string
  pins: string
  title: string
  description: string
  hide: string
  mask: string
  resultKiB: string
  holdMinutes: string
  deciders: string
  ownDecides: boolean
  asksUser: boolean
  order: string
  disabled: boolean
}

const texts = [
  'person',
  'role',
  'group',
  'label',
  'serverLabel',
  'hint',
  'tag',
  'bundle',
  'window',
  'client',
  'revision',
  'network',
  'presence',
  'title',
  'description',
] as const

const indented = (v: unknown) => (v === undefined || v === null ? '' : JSON.stringify(v, null, 2))

/** local is a time as an input of type datetime-local has it. */
function local(at: string | undefined): string {
  if (!at) return ''
  const d = new Date(at)
  return new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
}

/** formOf is the form of what a rule says. */
export function formOf(r: Partial<Rule> = {}): RuleForm {
  const out = {
    when: indented(r.when),
    narrow: indented(r.narrow),
    begins: local(r.begins),
    ends: local(r.ends),
    pins: Object.entries(r.pins ?? {})
      .map(([name, v]) => `${name} = ${JSON.stringify(v)}`)
      .join('\n'),
    hide: (r.hide ?? []).join('\n'),
    mask: (r.mask ?? []).join('\n'),
    resultKiB: r.resultKiB ? String(r.resultKiB) : '',
    holdMinutes: r.holdSeconds ? String(r.holdSeconds / 60) : '',
    deciders: (r.deciders ?? []).join(', '),
    ownDecides: r.ownDecides ?? false,
    asksUser: r.asksUser ?? false,
    order: r.order ? String(r.order) : '',
    disabled: r.disabled ?? false,
  } as RuleForm
  for (const name of texts) out[name] = r[name] ?? ''
  return out
}

/** FieldProblem says which field of the form cannot be read. */
export class FieldProblem extends Error {
  constructor(
    readonly field: string,
    message: string,
  ) {
    super(message)
  }
}

function json(field: string, text: string): unknown {
  if (!text.trim()) return undefined
  try {
    return JSON.parse(text)
  } catch (err) {
    throw new FieldProblem(field, `This is no JSON: ${(err as Error).message}`)
  }
}

function number(field: string, text: string): number | undefined {
  if (!text.trim()) return undefined
  const n = Number(text)
  if (!Number.isFinite(n) || n <= 0) throw new FieldProblem(field, 'This is no number above 0')
  return n
}

const lines = (text: string) =>
  text
    .split('\n')
    .map((l) => l.trim())
    .filter(Boolean)

/** termsOf reads the form; it throws a FieldProblem. */
export function termsOf(f: RuleForm): RuleTerms {
  const out: RuleTerms = {}
  for (const name of texts) if (f[name].trim()) Object.assign(out, { [name]: f[name].trim() })
  const pins: Record<string, unknown> = {}
  for (const line of lines(f.pins)) {
    const at = line.indexOf('=')
    if (at < 1) throw new FieldProblem('pins', 'Write one on a line, as in: port = "Skerrow"')
    const value = line.slice(at + 1).trim()
    let read: unknown = value
    try {
      read = JSON.parse(value)
    } catch {
      // A text without quotes is what people type.
    }
    pins[line.slice(0, at).trim()] = read
  }
  const minutes = number('holdSeconds', f.holdMinutes)
  const deciders = f.deciders.split(/[\s,]+/).filter(Boolean)
  return {
    ...out,
    when: json('when', f.when),
    narrow: json('narrow', f.narrow),
    begins: f.begins ? new Date(f.begins).toISOString() : undefined,
    ends: f.ends ? new Date(f.ends).toISOString() : undefined,
    pins: Object.keys(pins).length ? pins : undefined,
    hide: lines(f.hide).length ? lines(f.hide) : undefined,
    mask: lines(f.mask).length ? lines(f.mask) : undefined,
    resultKiB: number('resultKiB', f.resultKiB),
    holdSeconds: minutes === undefined ? undefined : Math.round(minutes * 60),
    deciders: deciders.length ? deciders : undefined,
    ownDecides: f.ownDecides || undefined,
    asksUser: f.asksUser || undefined,
    order: number('order', f.order),
    disabled: f.disabled || undefined,
  } as RuleTerms
}

/** said counts what a part of the form says, so that a folded part tells that it is not empty. */
export function said(f: RuleForm, names: (keyof RuleForm)[]): number {
  return names.filter((n) => (typeof f[n] === 'boolean' ? f[n] : String(f[n]).trim() !== '')).length
}
