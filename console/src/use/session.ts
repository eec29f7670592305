import { ref } from 'vue'
import { about, whatMayI, whoAmI, signOut, whenSignedOut, type About, type Person } from '../api'

const person = ref<Person | null>(null)
const service = ref<About | null>(null)
const scopes = ref<Record<string, string>>({})

/**
 * may tells whether the person may do something at all, or to what belongs to the owner:
 * a person's name, '' for the team. The service has the table; here it is only read, so
 * that nothing is offered which would be refused.
 */
function may(action: string, owner?: string): boolean {
  const scope = scopes.value[action]
  const own = owner !== '' && owner === person.value?.name
  if (owner === undefined) return scope !== undefined
  return scope === 'all' || (scope === 'team' && (owner === '' || own)) || (scope === 'own' && own)
}

/** useSession knows who is signed in and what they may do. */
export function useSession() {
  async function enter(p: Person) {
    scopes.value = p.mustChange ? {} : await whatMayI()
    person.value = p
  }
  async function load() {
    service.value = await about()
    const p = await whoAmI().catch(() => null)
    if (p) await enter(p)
    else person.value = null
  }
  async function leave() {
    await signOut().catch(() => undefined)
    person.value = null
  }
  return { person, service, may, enter, load, leave }
}

whenSignedOut(() => (person.value = null))
