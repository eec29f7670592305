import { onScopeDispose, ref } from 'vue'
import { type CallFilter, callTotalAddress } from '../api'
import type { CallTotal } from '../api/types'

/** useCallTotal counts the calls that a filter selects, and knows how far it is. */
export function useCallTotal() {
  const total = ref<CallTotal>()
  const failed = ref('')
  let source: EventSource | null = null

  function end() {
    source?.close()
    source = null
  }
  /** count begins anew; a count under way ends. */
  function count(filter: CallFilter) {
    end()
    const mine = new EventSource(callTotalAddress(filter))
    source = mine
    mine.addEventListener('found', (e: MessageEvent<string>) => {
      total.value = JSON.parse(e.data) as CallTotal
      failed.value = ''
      if (total.value.done) end()
    })
    mine.addEventListener('error', () => {
      if (source !== mine) return
      end() // and not again by itself: what was asked is answered once
      total.value = undefined
      failed.value = 'the service did not answer, or too many are being counted'
    })
  }
  onScopeDispose(end)
  return { total, failed, count }
}
