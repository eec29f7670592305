import { onScopeDispose, ref } from 'vue'
import { type CallFilter, callTotalAddress } from '../api'
import { nodesSilent } from '../api/client'
import type { CallTotal } from '../api/types'

/** How long a count stands at least before it is made again by itself, and how many times longer than it took. */
const standsFor = 10_000
const timesAsLong = 10

/** mayRecount reports whether a count that ended, and took so long, is made again by itself. */
export function mayRecount(now: number, ended: number, took: number): boolean {
  return now - ended >= Math.max(standsFor, timesAsLong * took)
}

/** useCallTotal counts the calls that a filter selects, and knows how far it is. */
export function useCallTotal() {
  const total = ref<CallTotal>()
  const failed = ref('')
  let source: EventSource | null = null
  let again = 0
  let began = 0
  let ended = 0

  function end() {
    window.clearTimeout(again)
    source?.close()
    source = null
    ended = Date.now()
  }
  function open(filter: CallFilter, tries: number) {
    const mine = new EventSource(callTotalAddress(filter))
    source = mine
    mine.addEventListener('found', (e: MessageEvent<string>) => {
      total.value = JSON.parse(e.data) as CallTotal
      failed.value = ''
      nodesSilent('/api/call-total', total.value.silent ?? [])
      if (total.value.done) end()
    })
    mine.addEventListener('error', () => {
      if (source !== mine) return
      end()
      if (tries > 1) {
        // The count before may not have ended yet where it is made.
        again = window.setTimeout(() => open(filter, tries - 1), 1000)
        return
      }
      total.value = undefined
      failed.value = 'the service did not answer, or too many are being counted'
    })
  }
  /** count begins anew; a count under way ends. */
  function count(filter: CallFilter) {
    end()
    began = Date.now()
    open(filter, 2)
  }
  /** recount counts again where calls came, but not while a count is under way, nor soon after one that took long. */
  function recount(filter: CallFilter) {
    if (!source && mayRecount(Date.now(), ended, ended - began)) count(filter)
  }
  /** add adds calls that came since, so that the number fits what is listed. */
  function add(calls: number) {
    if (total.value?.done) total.value = { ...total.value, found: total.value.found + calls }
  }
  onScopeDispose(end)
  return { total, failed, count, recount, add }
}
