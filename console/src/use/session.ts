import { computed, ref } from 'vue'
import { about, whoAmI, signOut, whenSignedOut, type About, type Person } from '../api'

const person = ref<Person | null>(null)
const service = ref<About | null>(null)

/** useSession knows who is signed in and what they may do. */
export function useSession() {
  const mayKeep = computed(() => person.value?.role === 'admin' || person.value?.role === 'maintainer')
  const maySeeService = computed(() => person.value !== null && person.value.role !== 'member')
  const mayOwn = computed(() => mayKeep.value || person.value?.role === 'member')

  async function load() {
    service.value = await about()
    person.value = await whoAmI().catch(() => null)
  }
  async function leave() {
    await signOut().catch(() => undefined)
    person.value = null
  }
  return { person, service, mayKeep, mayOwn, maySeeService, load, leave }
}

whenSignedOut(() => (person.value = null))
