import { onScopeDispose, ref } from 'vue'
import type { Call } from '../api'

type Topic = 'servers' | 'agents' | 'rules' | 'secrets' | 'people'
type TopicFn = (topic: Topic) => void
type CallsFn = (calls: Call[]) => void

const connected = ref(false)
const topicFns = new Set<TopicFn>()
const callFns = new Set<CallsFn>()
const backFns = new Set<() => void>()
let source: EventSource | null = null
let retry = 0

/** openLive listens to the service's events; closeLive ends it. */
export function openLive() {
  if (source) return
  source = new EventSource('/api/events')
  source.addEventListener('open', () => {
    // Something may have been missed while there was no stream.
    if (!connected.value) backFns.forEach((fn) => fn())
    connected.value = true
  })
  source.addEventListener('error', () => {
    connected.value = false
    if (source?.readyState === EventSource.CLOSED) {
      source = null
      retry = window.setTimeout(openLive, 3000)
    }
  })
  source.addEventListener('changed', (e) => {
    const topic = JSON.parse((e as MessageEvent).data) as Topic
    topicFns.forEach((fn) => fn(topic))
  })
  source.addEventListener('calls', (e) => {
    const calls = JSON.parse((e as MessageEvent).data) as Call[]
    callFns.forEach((fn) => fn(calls))
  })
}

export function closeLive() {
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
