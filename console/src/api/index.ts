import { request } from './client'
import type {
  About,
  AddedPerson,
  Adopted,
  Adoption,
  Agent,
  AgentPatch,
  Bucket,
  Budget,
  BudgetPatch,
  Bundle,
  BundlePatch,
  Call,
  Replayed,
  TapeInfo,
  TapeEntry,
  Flaw,
  Tried,
  Try,
  Why,
  ServerHistory,
  IncidentDetail,
  Incident,
  CheckupAsk,
  Checkup,
  Change,
  Consent,
  ConsentRequest,
  Contact,
  Copies,
  Nodes,
  Dependent,
  DocumentInfo,
  DocumentSource,
  Edition,
  Example,
  Explained,
  ExplainQuery,
  HeldCall,
  HeldDecision,
  Import,
  Imported,
  InspectedValue,
  Inspection,
  Invitation,
  Invited,
  IssuedPass,
  Joining,
  JournalState,
  KeepExample,
  KeySet,
  Label,
  LabelPatch,
  Limit,
  Login,
  MachineCode,
  MachineInvited,
  NewAgent,
  NewBudget,
  NewBundle,
  NewMachineCode,
  NewPass,
  NewPerson,
  NewRule,
  NewSecret,
  NewValue,
  OwnValue,
  Pass,
  Person,
  PersonPatch,
  Progress,
  ReachedTool,
  ReachMatrix,
  Rehearsal,
  Rehearsed,
  ReachDifference,
  AgentCost,
  CostDetail,
  Registration,
  ResetPassword,
  ReviewAccept,
  Role,
  Rule,
  RulePatch,
  Secret,
  SentTo,
  Server,
  ServerPatch,
  ServerReview,
  SignIn,
  SignInProblem,
  SignInTry,
  StandingDecision,
  Stats,
  MailState,
  MailWish,
  Tool,
  TurnedAway,
  Wish,
} from './types'

export * from './client'
export * from './types'

const seg = encodeURIComponent

function query(values: Record<string, string | number | undefined>): string {
  const q = new URLSearchParams()
  for (const [k, v] of Object.entries(values)) if (v !== undefined && v !== '') q.set(k, String(v))
  const text = q.toString()
  return text ? '?' + text : ''
}

export interface CallFilter {
  [key: string]: string | number | undefined
  agent?: string
  person?: string
  server?: string
  tool?: string
  rule?: string
  decision?: string
  outcome?: string
  text?: string
  before?: string
  limit?: number
  since?: string
  until?: string
}

export const about = () => request<About>('GET', '/api/about')
export const whatMayI = () => request<Record<string, string>>('GET', '/api/session/may')
export const whoAmI = () => request<Person>('GET', '/api/session')
export const signIn = (name: string, password: string) => request<Person>('POST', '/api/session', { name, password })
export const signOut = () => request<void>('DELETE', '/api/session')
export const changePassword = (old: string, fresh: string) => request<void>('PUT', '/api/session/password', { old, new: fresh })
export const people = () => request<Person[]>('GET', '/api/people')

export const servers = () => request<Server[]>('GET', '/api/servers')
export const server = (name: string) => request<Server>('GET', `/api/servers/${seg(name)}`)
export const tools = (name: string) => request<Tool[]>('GET', `/api/servers/${seg(name)}/tools`)
/** What a server offers of one kind. */
export const offered = (name: string, kind: 'tools' | 'prompts' | 'resources' | 'resourceTemplates') =>
  request<Tool[]>('GET', `/api/servers/${seg(name)}/tools?kind=${kind}`)
export const examples = (server: string) => request<Example[]>('GET', `/api/servers/${seg(server)}/examples`)
export const keepExample = (server: string, name: string, body: KeepExample) =>
  request<Example>('PUT', `/api/servers/${seg(server)}/examples/${seg(name)}`, body)
export const removeExample = (server: string, name: string) =>
  request<undefined>('DELETE', `/api/servers/${seg(server)}/examples/${seg(name)}`)
export const editions = (name: string) => request<Edition[]>('GET', `/api/servers/${seg(name)}/editions`)
export const operations = (name: string) => request<DocumentInfo>('GET', `/api/servers/${seg(name)}/operations`)
export const readDocument = (source: DocumentSource) => request<DocumentInfo>('POST', '/api/documents', source)
export const registerServer = (body: Registration, signal?: AbortSignal) => request<Server>('POST', '/api/servers', body, signal)
export const updateServer = (name: string, body: ServerPatch, signal?: AbortSignal) =>
  request<Server>('PATCH', `/api/servers/${seg(name)}`, body, signal)
export const checkServer = (name: string, signal?: AbortSignal) =>
  request<Server>('POST', `/api/servers/${seg(name)}/check`, undefined, signal)
export const restartServer = (name: string, signal?: AbortSignal) =>
  request<Server>('POST', `/api/servers/${seg(name)}/restart`, undefined, signal)
export const serverProgress = (name: string) => request<Progress>('GET', `/api/servers/${seg(name)}/progress`)
export const importServers = (body: Import) => request<Imported>('POST', '/api/imports', body)
export const removeServer = (name: string) => request<void>('DELETE', `/api/servers/${seg(name)}`)

export const agents = () => request<Agent[]>('GET', '/api/agents')
export const agent = (name: string) => request<Agent>('GET', `/api/agents/${seg(name)}`)
export const addAgent = (body: NewAgent) => request<Agent>('POST', '/api/agents', body)
export const updateAgent = (name: string, body: AgentPatch) => request<Agent>('PATCH', `/api/agents/${seg(name)}`, body)
export const removeAgent = (name: string) => request<void>('DELETE', `/api/agents/${seg(name)}`)
export const reach = (name: string) => request<ReachedTool[]>('GET', `/api/agents/${seg(name)}/reach`)
export const costs = () => request<AgentCost[]>('GET', '/api/costs')
export const cost = (agent: string) => request<CostDetail>('GET', `/api/agents/${seg(agent)}/cost`)
export const reachChanges = (agent: string, since: Date) =>
  request<ReachDifference>('GET', `/api/agents/${seg(agent)}/reach-changes?since=${encodeURIComponent(since.toISOString())}`)
export const adoptFile = (body: Adoption) => request<Adopted>('POST', '/api/adoptions', body)
export const machineCodes = () => request<MachineCode[]>('GET', '/api/machine-codes')
export const inviteMachine = (body: NewMachineCode) => request<MachineInvited>('POST', '/api/machine-codes', body)
export const withdrawMachine = (id: string) => request<void>('DELETE', `/api/machine-codes/${seg(id)}`)
export const contact = (name: string) => request<Contact>('GET', `/api/agents/${seg(name)}/contact`)
export const passes = (name: string) => request<Pass[]>('GET', `/api/agents/${seg(name)}/passes`)
export const makePass = (name: string, body: NewPass) => request<IssuedPass>('POST', `/api/agents/${seg(name)}/passes`, body)
export const revokePass = (name: string, id: string) => request<void>('DELETE', `/api/agents/${seg(name)}/passes/${seg(id)}`)

export const rules = () => request<Rule[]>('GET', '/api/rules')
export const addRule = (body: NewRule) => request<Rule>('POST', '/api/rules', body)
export const updateRule = (id: string, body: RulePatch) => request<Rule>('PATCH', `/api/rules/${seg(id)}`, body)
export const removeRule = (id: string) => request<void>('DELETE', `/api/rules/${seg(id)}`)

export const budgets = () => request<Budget[]>('GET', '/api/budgets')
export const addBudget = (body: NewBudget) => request<Budget>('POST', '/api/budgets', body)
export const updateBudget = (name: string, body: BudgetPatch) => request<Budget>('PATCH', `/api/budgets/${seg(name)}`, body)
export const resetBudget = (name: string) => request<Budget>('POST', `/api/budgets/${seg(name)}/reset`)
export const removeBudget = (name: string) => request<void>('DELETE', `/api/budgets/${seg(name)}`)
export const rehearse = (body: Rehearsal) => request<Rehearsed>('POST', '/api/rehearsals', body)
export const checkUp = (body: CheckupAsk, signal?: AbortSignal) => request<Checkup>('POST', '/api/checkups', body, signal)
export const checkupProgress = (watch: string) => request<Progress>('GET', `/api/checkups/${seg(watch)}`)
export const lastCheckup = (server: string) => request<Checkup>('GET', `/api/servers/${seg(server)}/checkup`)
export const incidents = () => request<Incident[]>('GET', '/api/incidents')
export const incident = (id: string) => request<IncidentDetail>('GET', `/api/incidents/${seg(id)}`)
export const noteIncident = (id: string, text: string) => request<Incident>('POST', `/api/incidents/${seg(id)}/notes`, { text })
export const health = (since: string) => request<ServerHistory[]>('GET', `/api/health?since=${encodeURIComponent(since)}`)
export const tryTool = (body: Try) => request<Tried>('POST', '/api/tries', body)
export const lintServer = (server: string) => request<Flaw[]>('GET', `/api/servers/${seg(server)}/lint`)
/** Whose tapes are meant: a server's, or an agent's. */
export type TapeOf = { server: string } | { agent: string }
export const heard = (of: TapeOf) =>
  request<TapeEntry[]>('GET', 'agent' in of ? `/api/agents/${seg(of.agent)}/heard` : `/api/servers/${seg(of.server)}/heard`)
export const tapes = (of: TapeOf) => request<TapeInfo[]>('GET', `/api/tapes?${new URLSearchParams(of).toString()}`)
export const keepTape = (of: TapeOf, reason: string) => request<TapeInfo>('POST', '/api/tapes', { ...of, reason })
export const replayTape = (id: string) => request<Replayed>('POST', `/api/tapes/${seg(id)}/replay`, {})
export const tapeAddress = (id: string, form: 'jsonl' | 'har') => `/api/tapes/${seg(id)}/export?form=${form}`
export const why = (agent: string, tool?: string) =>
  request<Why>('GET', `/api/agents/${seg(agent)}/why${tool ? `?tool=${encodeURIComponent(tool)}` : ''}`)
export const reviews = () => request<ServerReview[]>('GET', '/api/reviews')
export const setReviewMode = (server: string, mode: ServerReview['mode']) =>
  request<ServerReview>('PUT', `/api/servers/${seg(server)}/review`, { mode })
export const acceptTools = (server: string, body: ReviewAccept) => request<ServerReview>('POST', `/api/servers/${seg(server)}/review`, body)
export const labels = () => request<Label[]>('GET', '/api/labels')
export const alterLabels = (body: LabelPatch) => request<Label[]>('PATCH', '/api/labels', body)
export const bundles = () => request<Bundle[]>('GET', '/api/bundles')
export const addBundle = (body: NewBundle) => request<Bundle>('POST', '/api/bundles', body)
export const updateBundle = (name: string, body: BundlePatch) => request<Bundle>('PATCH', `/api/bundles/${seg(name)}`, body)
export const removeBundle = (name: string) => request<void>('DELETE', `/api/bundles/${seg(name)}`)
export const explain = (body: ExplainQuery) => request<Explained>('POST', '/api/explanations', body)
export const matrix = (signal?: AbortSignal) => request<ReachMatrix>('GET', '/api/reach', undefined, signal)
export const heldCalls = (waiting?: boolean) => request<HeldCall[]>('GET', '/api/held' + query({ waiting: waiting ? 'true' : undefined }))
export const heldCall = (id: string) => request<HeldCall>('GET', `/api/held/${seg(id)}`)
export const decideHeld = (id: string, body: HeldDecision) => request<HeldCall>('POST', `/api/held/${seg(id)}/decision`, body)
export const standing = () => request<StandingDecision[]>('GET', '/api/standing')
export const takeBack = (id: string) => request<void>('DELETE', `/api/standing/${seg(id)}`)

export const dependents = (kind: 'servers' | 'agents' | 'people', name: string) =>
  request<Dependent[]>('GET', `/api/${kind}/${seg(name)}/dependents`)

export const changes = (limit: number) => request<Change[]>('GET', '/api/changes' + query({ limit }))
export const undoChange = (id: string, anyway?: boolean) => request<Change>('POST', `/api/changes/${seg(id)}/undo`, { anyway })
export const calls = (f: CallFilter, signal?: AbortSignal) => request<Call[]>('GET', '/api/calls' + query(f), undefined, signal)
export const mailWish = () => request<MailWish>('GET', '/api/session/mail')
export const setMailWish = (body: Wish) => request<MailWish>('PUT', '/api/session/mail', body)
export const testMail = () => request<void>('POST', '/api/session/mail/test')
export const mailState = () => request<MailState>('GET', '/api/mail')
/** callTotalAddress is where it is told how many calls there are, as an event stream. */
export const callTotalAddress = (f: CallFilter) => '/api/call-total' + query(f)
/** callExportAddress is where the calls can be had in full, as a file. */
export const callExportAddress = (f: CallFilter, form: 'jsonl' | 'csv') => '/api/call-export' + query({ ...f, form })
export const call = (id: string) => request<Call>('GET', `/api/calls/${seg(id)}`)
export const stats = (q: { since: string; until?: string; by?: Stats['by']; server?: string; agent?: string }, signal?: AbortSignal) =>
  request<Stats>('GET', '/api/stats' + query(q), undefined, signal)
export const callCounts = (f: CallFilter, step: number, signal?: AbortSignal) =>
  request<Bucket[]>('GET', '/api/call-counts' + query({ ...f, step }), undefined, signal)

export const secrets = () => request<Secret[]>('GET', '/api/secrets')
export const addSecret = (body: NewSecret) => request<Secret>('POST', '/api/secrets', body)
export const inspectSecret = (kind: InspectedValue['kind'], value: string) =>
  request<Inspection>('POST', '/api/secrets/inspect', { kind, value })
export const rotateSecret = (name: string, body: NewValue) => request<Secret>('PUT', `/api/secrets/${seg(name)}/value`, body)
export const removeSecret = (name: string) => request<void>('DELETE', `/api/secrets/${seg(name)}`)
export const giveOwn = (server: string, body: OwnValue) => request<Secret>('PUT', `/api/servers/${seg(server)}/own`, body)

export const signIns = () => request<SignIn[]>('GET', '/api/sign-ins')
export const beginSignIn = (body: SignInTry) => request<SentTo>('POST', '/api/sign-ins', body)
export const revokeSignIn = (id: string) => request<void>('DELETE', `/api/sign-ins/${seg(id)}`)
export const signInProblem = (id: string) => request<SignInProblem>('GET', `/api/sign-in-problems/${seg(id)}`)
export const tieMyself = (back: string) => request<SentTo>('POST', '/api/session/tie', { back })
export const journalState = () => request<JournalState>('GET', '/api/journal')
export const turnedAway = () => request<TurnedAway[]>('GET', '/api/turned-away')
export const locker = () => request<KeySet>('GET', '/api/locker')
export const rotateKeys = () => request<KeySet>('POST', '/api/locker/rotate')
export const backupAddress = '/api/backup'
export const copies = () => request<Copies>('GET', '/api/copies')
export const nodes = () => request<Nodes>('GET', '/api/nodes')
export const drainNode = (name: string, draining: boolean) => request<Nodes>('PATCH', `/api/nodes/${seg(name)}`, { draining })
export const removeNode = (name: string) => request<void>('DELETE', `/api/nodes/${seg(name)}`)
export const makeCopy = () => request<Copies>('POST', '/api/copies')
export const limits = () => request<Limit[]>('GET', '/api/limits')
export const signInElsewhere = (back: string) => request<SentTo>('POST', '/api/session/elsewhere', { back })

export const consents = () => request<Consent[]>('GET', '/api/consents')
export const revokeConsent = (id: string) => request<void>('DELETE', `/api/consents/${seg(id)}`)
export const consentRequest = (id: string) => request<ConsentRequest>('GET', `/api/consent-requests/${seg(id)}`)
export const decideConsent = (id: string, agent: string) => request<SentTo>('POST', `/api/consent-requests/${seg(id)}`, { agent })

export const logins = () => request<Login[]>('GET', '/api/logins')
export const endLogin = (id: string) => request<void>('DELETE', `/api/logins/${seg(id)}`)
export const addPerson = (body: NewPerson) => request<AddedPerson>('POST', '/api/people', body)
export const updatePerson = (name: string, body: PersonPatch) => request<Person>('PATCH', `/api/people/${seg(name)}`, body)
export const resetPassword = (name: string) => request<ResetPassword>('POST', `/api/people/${seg(name)}/password`)
export const removePerson = (name: string) => request<void>('DELETE', `/api/people/${seg(name)}`)
export const invitations = () => request<Invitation[]>('GET', '/api/invitations')
export const invite = (role: Role, note: string) => request<Invited>('POST', '/api/invitations', { role, note })
export const withdraw = (id: string) => request<void>('DELETE', `/api/invitations/${seg(id)}`)
export const join = (body: Joining) => request<Person>('POST', '/api/join', body)
