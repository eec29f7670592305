import type { DocumentSource, Operation, Place, Registration, Server, ServerPatch, SignInWay, ToolLimits } from '../api'

/** What a server is: an address, a local process, or a REST API with a document. */
export type ServerKind = 'address' | 'command' | 'rest'

/** ServerForm is everything that can be set about a server, as it is typed. */
export interface ServerForm {
  kind: ServerKind
  name: string
  url: string
  transport: '' | 'streamable-http' | 'sse'
  command: string
  args: string
  dir: string
  env: string
  secretEnv: string
  token: string
  secret: string
  sharing: 'auto' | 'shared' | 'private'
  placement: string
  secretHeader: string
  secretQuery: string
  headers: string
  ca: string
  clientCert: string
  clientKey: string
  memoryMiB?: number
  openFiles?: number
  processes?: number
  callSeconds?: number
  resultKiB?: number
  tooLarge: 'cut' | 'refuse'
  toolLimits: ToolLimits[]
  messageMiB?: number
  per: 'team' | 'person' | 'agent'
  grant: '' | SignInWay['grant']
  scope: string
  issuer: string
  clientId: string
  clientSecret: string
  signingKey: string
  assertion: string
  takeIssuer: boolean
  privateRanges: string
  places: Place[]
  document: DocumentSource
  operations: Operation[]
}

/** lines are the lines of a text that say something. */
export const lines = (text: string) =>
  text
    .split('\n')
    .map((l) => l.trim())
    .filter((l) => l !== '')

const kindOf = (s?: Server): ServerKind => (s?.command ? 'command' : s?.transport === 'rest' ? 'rest' : 'address')

/** formOf is the form of a server as it is, or an empty one. */
export function formOf(s?: Server): ServerForm {
  const text = (list?: string[]) => (list ?? []).join('\n')
  return {
    kind: kindOf(s),
    name: s?.name ?? '',
    url: s?.url ?? '',
    transport: s?.transport === 'streamable-http' || s?.transport === 'sse' ? s.transport : '',
    command: s?.command ?? '',
    args: text(s?.args),
    dir: s?.dir ?? '',
    env: text(s?.env),
    secretEnv: s?.secretEnv ?? '',
    token: '',
    secret: s?.secret ?? '',
    sharing: s?.sharing ?? 'auto',
    placement: s?.placement || 'everywhere',
    secretHeader: s?.secretHeader ?? '',
    secretQuery: s?.secretQuery ?? '',
    headers: text(s?.headers),
    ca: s?.ca ?? '',
    clientCert: s?.clientCert ?? '',
    clientKey: s?.clientKey ?? '',
    memoryMiB: s?.memoryMiB || undefined,
    openFiles: s?.openFiles || undefined,
    processes: s?.processes || undefined,
    callSeconds: s?.callSeconds || undefined,
    resultKiB: s?.resultKiB || undefined,
    tooLarge: s?.tooLarge || 'refuse',
    toolLimits: structuredClone(s?.toolLimits ?? []),
    messageMiB: s?.messageMiB || undefined,
    per: s?.per || 'team',
    grant: s?.signIn?.grant ?? '',
    scope: s?.signIn?.scope ?? '',
    issuer: s?.signIn?.issuer ?? '',
    clientId: s?.signIn?.clientId ?? '',
    clientSecret: s?.signIn?.clientSecret ?? '',
    signingKey: s?.signIn?.signingKey ?? '',
    assertion: s?.signIn?.assertion ?? '',
    takeIssuer: false,
    privateRanges: text(s?.privateRanges),
    places: structuredClone(s?.places ?? []),
    document: {},
    operations: structuredClone(s?.operations ?? []),
  }
}

function signIn(f: ServerForm): SignInWay | undefined {
  if (f.kind !== 'address' || f.grant === '') return undefined
  const way: SignInWay = { grant: f.grant }
  for (const field of ['scope', 'issuer', 'clientId', 'clientSecret', 'signingKey', 'assertion'] as const)
    if (f[field].trim()) way[field] = f[field].trim()
  return way
}

/** settings are what a form says of a server of its kind, empty values included. */
function settings(f: ServerForm) {
  const both = {
    callSeconds: f.callSeconds ?? 0,
    resultKiB: f.resultKiB ?? 0,
    tooLarge: f.tooLarge,
    toolLimits: f.toolLimits,
    messageMiB: f.messageMiB ?? 0,
    places: f.places,
    secret: f.grant === '' ? f.secret : '',
  }
  if (f.kind === 'command') {
    return {
      ...both,
      sharing: f.sharing,
      command: f.command,
      args: f.args.split('\n').filter((l) => l !== ''),
      dir: f.dir,
      env: lines(f.env),
      secretEnv: f.secretEnv,
      placement: f.placement,
      memoryMiB: f.memoryMiB ?? 0,
      openFiles: f.openFiles ?? 0,
      processes: f.processes ?? 0,
    }
  }
  const address = {
    ...both,
    url: f.url,
    headers: lines(f.headers),
    secretHeader: f.secretHeader,
    ca: f.ca,
    clientCert: f.clientCert,
    clientKey: f.clientKey,
    per: f.per,
  }
  if (f.kind === 'rest') return { ...address, secretQuery: f.secretQuery, ...f.document, operations: f.operations }
  return {
    ...address,
    sharing: f.sharing,
    transport: f.transport || undefined,
    signIn: signIn(f),
    privateRanges: lines(f.privateRanges),
  }
}

const empty = (v: unknown) => v === undefined || v === '' || v === 0 || (Array.isArray(v) && v.length === 0)

/** described is the registration that a form describes; what is empty is left out. */
export function described(f: ServerForm): Registration {
  const all = Object.entries(settings(f)).filter(([key, v]) => {
    if (key === 'tooLarge') return f.resultKiB !== undefined
    return !empty(v) && !(key === 'per' && v === 'team') && !(key === 'placement' && v === 'everywhere')
  })
  return { name: f.name, ...Object.fromEntries(all) }
}

/** altered is what a form alters of a server; what is as before is left out. */
export function altered(f: ServerForm, before: Server): ServerPatch {
  const was: Record<string, unknown> = settings(formOf(before))
  const now: Record<string, unknown> = settings(f)
  const patch: Record<string, unknown> = { version: before.version }
  for (const key of Object.keys({ ...was, ...now })) {
    if (JSON.stringify(now[key]) !== JSON.stringify(was[key])) patch[key] = now[key] ?? (key === 'signIn' ? {} : undefined)
  }
  if (f.takeIssuer) patch.takeIssuer = true
  return patch as ServerPatch
}

/** dropped is what a form takes away from a server, in words. */
export function dropped(f: ServerForm, before: Server): string[] {
  const was = formOf(before)
  const names = (text: string, sep: string) => lines(text).map((l) => l.split(sep)[0].trim())
  const gone = (what: string, had: string[], has: string[]) => had.filter((x) => !has.includes(x)).map((x) => `${what} ${x}`)
  const out = [
    ...gone('variable', names(was.env, '='), names(f.env, '=')),
    ...gone('header', names(was.headers, ':'), names(f.headers, ':')),
    ...gone(
      'operation',
      was.operations.map((o) => o.id),
      f.operations.map((o) => o.id),
    ),
    ...gone(
      'secret',
      was.places.map((p) => p.secret),
      f.places.map((p) => p.secret),
    ),
    ...gone(
      'limits of',
      was.toolLimits.map((l) => l.tool),
      f.toolLimits.map((l) => l.tool),
    ),
  ]
  const elsewhere = f.url !== was.url || f.command !== was.command || f.args !== was.args || f.dir !== was.dir || f.env !== was.env
  if (elsewhere && was.per !== 'team') out.push('what people and agents gave of their own, since it is another address or program')
  return out
}

/** nameFrom makes a short name of a title. */
export const nameFrom = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '')
    .slice(0, 32)
