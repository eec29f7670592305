import type { Tool, Try } from '../api'
import type { Schema } from './schemaform'

/** What can be tried of a server, and how a form for it is made. */
export type TryKind = NonNullable<Try['kind']>

export const kindNames: Record<TryKind, string> = {
  tool: 'Tool',
  prompt: 'Prompt',
  resource: 'Resource',
  completion: 'Completion',
}

interface PromptArgument {
  name: string
  title?: string
  description?: string
  required?: boolean
}

/** variablesOf are the variables of a URI template (RFC 6570), in order. */
export function variablesOf(template: string): string[] {
  const names: string[] = []
  for (const [, inside] of template.matchAll(/\{[+#./;?&]?([^}]*)\}/g)) {
    for (const name of (inside ?? '').split(',')) names.push(name.replace(/(\*|:\d+)$/, ''))
  }
  return [...new Set(names.filter(Boolean))]
}

/** expanded puts values into a URI template: simple variables, and those that are kept as they are. */
export function expanded(template: string, values: Record<string, unknown>): string {
  return template.replace(/\{([+#./;?&]?)([^}]*)\}/g, (_, operator: string, inside: string) => {
    const given = inside
      .split(',')
      .map((name) => name.replace(/(\*|:\d+)$/, ''))
      .filter((name) => values[name] !== undefined && values[name] !== '')
    if (!given.length) return ''
    const plain = operator === '+' || operator === '#'
    const text = (name: string) => (plain ? encodeURI(String(values[name])) : encodeURIComponent(String(values[name])))
    if (operator === '?' || operator === '&' || operator === ';') {
      const first = operator === '?' ? '?' : operator
      return first + given.map((name) => `${name}=${text(name)}`).join(operator === ';' ? ';' : '&')
    }
    const between = operator === '/' || operator === '.' ? operator : ','
    return (operator === '+' ? '' : operator) + given.map(text).join(between)
  })
}

/** schemaOf is the schema that the form of something is made from. */
export function schemaOf(kind: TryKind, one: Tool | undefined): Schema {
  const none: Schema = { type: 'object', properties: {} }
  if (!one) return none
  const raw = one.schema as { inputSchema?: Schema; arguments?: PromptArgument[] }
  if (kind === 'tool') return raw.inputSchema ?? none
  const list: PromptArgument[] = raw.arguments ?? variablesOf(one.name).map((name) => ({ name, required: kind === 'resource' }))
  return {
    type: 'object',
    properties: Object.fromEntries(list.map((a) => [a.name, { type: 'string', title: a.title ?? a.name, description: a.description }])),
    required: list.filter((a) => a.required).map((a) => a.name),
  }
}
