import { ElMessage, ElMessageBox } from 'element-plus'
import { ApiError } from '../api'

/** confirmed asks before something that cannot be undone. */
export async function confirmed(title: string, text: string, action: string): Promise<boolean> {
  return ElMessageBox.confirm(text, title, { confirmButtonText: action, cancelButtonText: 'Cancel', type: 'warning' }).then(
    () => true,
    () => false,
  )
}

/** attempt runs an action of a list row and tells when it failed. */
export async function attempt(fn: () => Promise<unknown>): Promise<boolean> {
  try {
    await fn()
    return true
  } catch (err) {
    const text = err instanceof ApiError ? [err.message, err.hint].filter(Boolean).join('. ') : String(err)
    ElMessage({ type: 'error', message: text, duration: 8000, showClose: true })
    return false
  }
}
