import { onScopeDispose, ref } from 'vue'
import { serverProgress } from '../api'
import { span } from './format'

const every = 700

/** useProgress tells what an attempt at reaching a server is doing, while something waits for it. */
export function useProgress() {
  const text = ref('')
  let timer: ReturnType<typeof setTimeout> | undefined

  function stop() {
    clearTimeout(timer)
    timer = undefined
    text.value = ''
  }
  async function look(name: string) {
    const now = await serverProgress(name).catch(() => undefined)
    if (timer === undefined) return
    if (now?.busy) text.value = `${now.stage}, for ${span(now.seconds ?? 0)}${now.words ? `; last output: ${now.words}` : ''}`
    timer = setTimeout(() => void look(name), every)
  }
  /** during shows the progress while the promise is pending. */
  async function during<T>(name: string, doing: Promise<T>): Promise<T> {
    stop()
    timer = setTimeout(() => void look(name), every)
    try {
      return await doing
    } finally {
      stop()
    }
  }
  onScopeDispose(stop)
  return { text, during }
}
