export type Role = 'admin' | 'maintainer' | 'member' | 'auditor'

export interface Person {
  id: string
  name: string
  fullName: string
  role: Role
  mustChange: boolean
  created: string
}

export interface About {
  version: string
  address: string
  journal: string
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
  state: 'connecting' | 'ready' | 'failing' | 'paused'
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
  paused: boolean
  created: string
  health: Health
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
}

export interface Pass {
  id: string
  agent: string
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
