import { onScopeDispose, ref } from 'vue'
import type { Call } from '../api'
import { onEvent } from './resource'

type Topic =
  'servers' | 'agents' | 'rules' | 'secrets' | 'people' | 'sign-ins' | 'held' | 'labels' | 'bundles' | 'budgets' | 'reviews' | 'incidents'
type TopicFn = (topic: Topic) => void
type CallsFn = (calls: Call[]) => void

const connected = ref(false)
const topicFns = new Set<TopicFn>()
const callFns = new Set<CallsFn>()
const backFns = new Set<() => void>()
let source: EventSource | null = null
let retry = 0

let wanted = false

/** openLive listens to the service's events while the page can be seen; closeLive ends it. */
export function openLive() {
  wanted = true
  connect()
}

// A browser opens few connections to one address. Pages that nobody looks at,
// in other tabs or in the history, must not hold them.
document.addEventListener('visibilitychange', () => (document.hidden ? disconnect() : connect()))
window.addEventListener('pagehide', disconnect)
window.addEventListener('pageshow', connect)

function connect() {
  if (!wanted || source || document.hidden) return
  window.clearTimeout(retry)
  source = new EventSource('/api/events')
  source.addEventListener('open', () => {
    // Something may have been missed while there was no stream.
    if (!connected.value) onEvent(() => backFns.forEach((fn) => fn()))
    connected.value = true
  })
  source.addEventListener('error', () => {
    connected.value = false
    if (source?.readyState === EventSource.CLOSED) {
      source = null
      retry = window.setTimeout(connect, 3000)
    }
  })
  source.addEventListener('changed', (e) => {
    const topic = JSON.parse((e as MessageEvent).data) as Topic
    onEvent(() => topicFns.forEach((fn) => fn(topic)))
  })
  source.addEventListener('calls', (e) => {
    const calls = JSON.parse((e as MessageEvent).data) as Call[]
    callFns.forEach((fn) => fn(calls))
  })
}

export function closeLive() {
  wanted = false
  disconnect()
}

function disconnect() {
  window.clearTimeout(retry)
  source?.close()
  source = null
  connected.value = false
}

function register<F>(set: Set<F>, fn: F | undefined) {
  if (!fn) return
  set.add(fn)
  onScopeDispose(() => set.delete(fn))
}

/** useLive calls back on events for as long as the component lives. */
export function useLive(on: { topics?: TopicFn; calls?: CallsFn; back?: () => void } = {}) {
  register(topicFns, on.topics)
  register(callFns, on.calls)
  register(backFns, on.back)
  return { connected }
}
