import { computed, reactive } from 'vue'
import { whenNodesAreSilent } from '../api'

const byPath = reactive(new Map<string, string>())
whenNodesAreSilent((path, silent) => {
  if (silent) byPath.set(path, silent)
  else byPath.delete(path)
})

/** useSilentNodes tells which nodes of the service did not answer when something was last asked for. */
export function useSilentNodes() {
  return {
    silent: computed(() => [...new Set([...byPath.values()].flatMap((s) => s.split(', ')))].sort().join(', ')),
  }
}
