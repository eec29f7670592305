import { dependents } from '../api'
import { attempt, confirmed } from './confirm'

/** removed shows what hangs on something and what becomes of it, asks, and removes it. */
export async function removed(
  kind: 'servers' | 'agents' | 'people',
  name: string,
  about: string,
  remove: (name: string) => Promise<unknown>,
): Promise<boolean> {
  let text = about
  const looked = await attempt(async () => {
    const list = await dependents(kind, name)
    const lines = list.map((d) => `${d.kind} (${d.names.join(', ')}) ${d.becomes}`)
    text = [about, ...lines.map((l) => l[0].toUpperCase() + l.slice(1) + '.')].join(' ')
  })
  return looked && (await confirmed(`Remove ${name}?`, text, 'Remove')) && (await attempt(() => remove(name)))
}
