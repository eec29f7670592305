export type Role = 'admin' | 'maintainer' | 'member' | 'auditor'

export interface Person {
  id: string
  name: string
  fullName: string
  role: Role
  mustChange: boolean
  elsewhere: boolean
  created: string
}

export interface About {
  version: string
  address: string
  journal: string
  provider?: string
}

export interface Finding {
  cause: string
  message: string
  remedy: string
  actor: string
}

export interface Stage {
  name: string
  ms: number
  ok: boolean
  note?: string
}

export interface Health {
  state: 'connecting' | 'ready' | 'failing' | 'paused' | 'waiting'
  revision: string
  serverName: string
  serverVersion: string
  tools: number
  prompts: number
  resources: number
  edition: string
  leftOut?: string[]
  finding?: Finding
  stages?: Stage[]
  stderr?: string
  noise?: number
  since: string
  checked: string
}

export interface Server {
  id: string
  name: string
  url: string
  transport: string
  command?: string
  args?: string[]
  dir?: string
  env?: string[]
  secretEnv?: string
  secret: string
  sharing: Sharing
  secretHeader?: string
  secretQuery?: string
  headers?: string[]
  memoryMiB?: number
  openFiles?: number
  processes?: number
  operations?: Operation[]
  per?: Holder
  signIn?: SignInWay
  places?: { how: string; name?: string; secret: string }[]
  paused: boolean
  created: string
  health: Health
}

export type Holder = 'team' | 'person' | 'agent'

/** SignInWay says how an OAuth grant at a server is come by. */
export interface SignInWay {
  grant: 'code' | 'client' | 'workload' | 'assertion'
  scope?: string
  issuer?: string
  clientId?: string
  clientSecret?: string
  signingKey?: string
  assertion?: string
}

export type Sharing = 'auto' | 'shared' | 'private'

/** Operation is an operation of a REST API that is a tool. */
export interface Operation {
  id: string
  name?: string
  description?: string
}

export interface OperationInfo {
  id: string
  method: string
  path: string
  summary: string
  readOnly: boolean
  destructive: boolean
  problem?: string
  picked: boolean
  tool?: string
}

export interface DocumentInfo {
  title: string
  version: string
  server: string
  schemes: { name: string; kind: string; in?: string }[]
  operations: OperationInfo[]
}

/** Edition is one recorded state of a server's tool list. */
export interface Edition {
  id: string
  at: string
  digest: string
  tools: number
  added: string[]
  removed: string[]
  changed: string[]
}

export interface Tool {
  name: string
  title: string
  description: string
  readOnly: boolean
  destructive: boolean
  schema: { inputSchema?: unknown }
}

export interface Agent {
  id: string
  name: string
  kind: string
  owner: string
  paused: boolean
  created: string
  passes: number
  seen?: string
}

export interface ReachedTool {
  server: string
  tool: string
  exposed: string
  title: string
  description: string
  destructive: boolean
  readOnly: boolean
  admitted: boolean
  rule: string
  why: string
  lacks?: string
}

export interface Pass {
  id: string
  agent: string
  kind: 'pass' | 'token' | 'address'
  label: string
  hint: string
  created: string
  expires: string
  used?: string
  state: 'valid' | 'expired' | 'revoked'
}

export interface Rule {
  id: string
  effect: 'admit' | 'refuse'
  agent: string
  server: string
  tool: string
  note: string
  by: string
  created: string
}

export interface Call {
  id: string
  at: string
  agent: string
  person: string
  server: string
  tool: string
  decision: 'admit' | 'refuse'
  rule: string
  outcome: string
  error?: string
  us: number
  bytesIn: number
  bytesOut: number
  session?: string
  arguments?: string
  result?: string
  cut?: boolean
}

export interface Bucket {
  at: string
  ok: number
  refused: number
  failed: number
}

/** Secret is a stored credential, without its value. */
export interface Secret {
  id: string
  name: string
  kind: string
  owner?: string
  source?: string
  usedBy: string[]
  facts: Facts
  ends?: string
  warning?: string
  used?: string
  created: string
  rotated?: string
  overlap?: string
}

/** Facts are what can be told of a value without showing it. */
export interface Facts {
  form?: string
  issuer?: string
  audience?: string[]
  scopes?: string[]
  subject?: string
  notes?: string[]
}

export interface Inspection {
  problem?: string
  facts: Facts
  ends?: string
  warning?: string
}

export interface SignIn {
  id?: string
  server: string
  person: string
  agent: string
  state: 'valid' | 'needed' | 'ended' | 'failing'
  grant: string
  issuer: string
  scope: string
  note: string
  expires?: string
  renews: boolean
  created?: string
  refreshed?: string
  mine: boolean
  link?: string
}

export interface Consent {
  id: string
  app: string
  appName: string
  agent: string
  person: string
  resource: string
  created: string
  used?: string
  revoked?: string
  why?: string
}

export interface ConsentRequest {
  app: string
  appName: string
  document: boolean
  returns: string
  resource: string
  agents: { name: string; kind: string; owner: string; tools: string[]; changes: string[] }[]
}

export interface Login {
  id: string
  person: string
  kind: string
  label: string
  from: string
  created: string
  expires: string
  used?: string
  present: boolean
}

export interface Invitation {
  id: string
  role: Role
  note: string
  by: string
  created: string
  expires: string
  taken: string
  state: 'open' | 'taken' | 'expired'
}

export interface Problem {
  what: string
  hint: string
  step?: string
  code?: string
}
