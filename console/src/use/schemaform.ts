/** What of JSON Schema (2020-12) a form is made from. */
export interface Schema {
  type?: string | string[]
  title?: string
  description?: string
  default?: unknown
  enum?: unknown[]
  const?: unknown
  format?: string
  minimum?: number
  maximum?: number
  minLength?: number
  maxLength?: number
  properties?: Record<string, Schema>
  required?: string[]
  items?: Schema
  oneOf?: Schema[]
  anyOf?: Schema[]
  allOf?: Schema[]
  $ref?: string
  $defs?: Record<string, Schema>
  definitions?: Record<string, Schema>
}

export type Kind = 'object' | 'array' | 'choice' | 'boolean' | 'number' | 'text' | 'variants' | 'json'

const deepest = 8

/** resolve follows references within the document, and takes what all of allOf say together. */
export function resolve(s: Schema | undefined, root: Schema, depth = 0): Schema {
  if (!s || depth > deepest) return {}
  if (s.$ref?.startsWith('#')) {
    let at: unknown = root
    for (const part of s.$ref.slice(1).split('/').filter(Boolean)) {
      at = (at as Record<string, unknown> | undefined)?.[part.replace(/~1/g, '/').replace(/~0/g, '~')]
    }
    return resolve({ ...(at as Schema), ...s, $ref: undefined }, root, depth + 1)
  }
  if (s.allOf) {
    const parts = s.allOf.map((p) => resolve(p, root, depth + 1))
    return [{ ...s, allOf: undefined } as Schema, ...parts].reduce((a, b) => ({
      ...a,
      ...b,
      properties: { ...a.properties, ...b.properties },
      required: [...(a.required ?? []), ...(b.required ?? [])],
    }))
  }
  return s
}

/** kindOf tells which field a schema gets. */
export function kindOf(s: Schema): Kind {
  if (s.enum || s.const !== undefined) return 'choice'
  if (s.oneOf?.length || s.anyOf?.length) return 'variants'
  const type = Array.isArray(s.type) ? s.type.find((t) => t !== 'null') : s.type
  switch (type) {
    case 'object':
      return s.properties ? 'object' : 'json'
    case 'array':
      return s.items ? 'array' : 'json'
    case 'boolean':
      return 'boolean'
    case 'integer':
    case 'number':
      return 'number'
    case 'string':
      return 'text'
  }
  return s.properties ? 'object' : 'json'
}

/** initial is what a field begins with: the default, or what has to be there. */
export function initial(s: Schema, root: Schema, depth = 0): unknown {
  const schema = resolve(s, root)
  if (schema.default !== undefined) return structuredClone(schema.default)
  if (schema.const !== undefined) return schema.const
  if (depth > deepest) return undefined
  switch (kindOf(schema)) {
    case 'object':
      return Object.fromEntries(
        (schema.required ?? [])
          .map((name) => [name, initial(schema.properties?.[name] ?? {}, root, depth + 1)] as const)
          .filter(([, v]) => v !== undefined),
      )
    case 'array':
      return []
  }
  return undefined
}

/** pruned leaves out what was not filled in. */
export function pruned(v: unknown): unknown {
  if (Array.isArray(v)) return v.map(pruned).filter((x) => x !== undefined)
  if (v && typeof v === 'object') {
    return Object.fromEntries(
      Object.entries(v)
        .map(([k, x]) => [k, pruned(x)] as const)
        .filter(([, x]) => x !== undefined && x !== ''),
    )
  }
  return v
}

/** inputType is the type of an input for a format. */
export function inputType(format?: string): string {
  return (
    { date: 'date', 'date-time': 'datetime-local', time: 'time', email: 'email', uri: 'url', password: 'password' }[format ?? ''] ?? 'text'
  )
}
