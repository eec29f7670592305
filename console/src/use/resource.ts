import { onScopeDispose, ref, shallowRef } from 'vue'
import { ApiError } from '../api'

let told = false

/** onEvent calls what an event of the service calls: what is being loaded meanwhile is loaded once more afterwards. */
export function onEvent(fn: () => void) {
  told = true
  try {
    fn()
  } finally {
    told = false
  }
}

/**
 * useResource loads something, keeps it while it is loaded again, and drops answers that a newer question overtook.
 * Events ask the same question again, and break off nothing: where they come faster than answers there would be none.
 */
export function useResource<T>(fetcher: (signal: AbortSignal) => Promise<T>) {
  const data = shallowRef<T>()
  const error = shallowRef<ApiError>()
  const loading = ref(false)
  let current: AbortController | null = null
  let again = false

  async function load(): Promise<void> {
    if (told && loading.value) {
      again = true
      return
    }
    again = false
    current?.abort()
    const mine = new AbortController()
    current = mine
    loading.value = true
    try {
      const value = await fetcher(mine.signal)
      if (current !== mine) return
      data.value = value
      error.value = undefined
    } catch (err) {
      if (current !== mine || mine.signal.aborted) return
      error.value = err instanceof ApiError ? err : new ApiError(0, String(err))
    } finally {
      if (current === mine) {
        loading.value = false
        if (again) void load()
      }
    }
  }
  onScopeDispose(() => {
    again = false
    current?.abort()
  })
  return { data, error, loading, load }
}

/** useAction runs something that alters state and keeps what went wrong. */
export function useAction() {
  const busy = ref(false)
  const failure = shallowRef<ApiError>()

  async function run<T>(fn: () => Promise<T>): Promise<T | undefined> {
    if (busy.value) return undefined
    busy.value = true
    failure.value = undefined
    try {
      return await fn()
    } catch (err) {
      failure.value = err instanceof ApiError ? err : new ApiError(0, String(err))
      return undefined
    } finally {
      busy.value = false
    }
  }
  /** fieldError is what is wrong with a field; its label stands above it, so that it is not named again. */
  const fieldError = (field: string) => (failure.value?.field === field ? aboutField(failure.value) : '')
  return { busy, failure, run, fieldError }
}

/** aboutField is an error about a field without the field's name, which is the API's. */
export function aboutField(err: ApiError): string {
  const prefix = err.field + ' '
  if (!err.field || !err.message.toLowerCase().startsWith(prefix.toLowerCase())) return err.message
  const rest = err.message.slice(prefix.length)
  return rest.charAt(0).toUpperCase() + rest.slice(1)
}
