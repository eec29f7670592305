<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElOption, ElRadioButton, ElRadioGroup, ElSelect } from 'element-plus'
import { computed, onMounted, reactive, ref } from 'vue'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import ListFrame from '../parts/ListFrame.vue'
import StateMark from '../parts/StateMark.vue'
import { attempt, confirmed } from '../use/confirm'
import { removed } from '../use/removal'
import { ago, dateOnly } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'

const { person, service, may } = useSession()
const admin = computed(() => may('people.keep'))
const { filter, among } = useFilter()
const people = useResource(() => api.people())
const logins = useResource(() => api.logins())
const invitations = useResource(() => (admin.value ? api.invitations() : Promise.resolve([])))
const roles: api.Role[] = ['admin', 'maintainer', 'member', 'auditor']
const duties: Record<api.Role, string> = {
  admin: 'everything, people included',
  maintainer: 'servers, secrets, rules and all agents',
  member: 'their own agents, sign-ins and calls',
  auditor: 'sees everything, alters nothing',
}
function loadAll() {
  void people.load()
  void logins.load()
  void invitations.load()
}
onMounted(loadAll)
useLive({ topics: (t) => t === 'people' && loadAll(), back: loadAll })
const shownPeople = computed(() => among(people.data.value, (p) => [p.name, p.fullName, p.role]))
const shownLogins = computed(() => among(logins.data.value, (l) => [l.person, l.label, l.from]).slice(0, 50))
const shownInvitations = computed(() => among(invitations.data.value, (i) => [i.note, i.role, i.state, i.taken]))

const adding = ref<'invite' | 'add' | ''>('')
const form = reactive({ role: 'member' as api.Role, note: '', name: '', fullName: '' })
const once = ref<{ title: string; text: string }>()
const action = useAction()
const { fieldError } = action
const open = computed({ get: () => adding.value !== '', set: () => (adding.value = '') })
const shownOnce = computed({ get: () => once.value !== undefined, set: () => (once.value = undefined) })
async function submit() {
  if (adding.value === 'invite') {
    const made = await action.run(() => api.invite(form.role, form.note))
    if (!made) return
    once.value = { title: 'The invitation, shown this once', text: made.link }
  } else {
    const made = await action.run(() => api.addPerson({ name: form.name, fullName: form.fullName, role: form.role }))
    if (!made) return
    once.value = { title: `One-time password of ${made.person.name}, shown this once`, text: made.password }
  }
  adding.value = ''
  Object.assign(form, { note: '', name: '', fullName: '' })
  loadAll()
}
async function tie() {
  const provider = service.value?.provider ?? ''
  const text = `You sign in at ${provider} now. From then on your groups there say what your role is.`
  if (!(await confirmed(`Tie yourself to ${provider}?`, text, 'Continue'))) return
  const to = await action.run(() => api.tieMyself('/people'))
  if (to) window.location.assign(to.url)
}
async function setRole(p: api.Person, role: api.Role) {
  await attempt(() => api.updatePerson(p.name, { role }))
  loadAll()
}
async function reset(p: api.Person) {
  if (!(await confirmed(`New one-time password for ${p.name}?`, 'The present password ends, and with it all logins.', 'Make one'))) return
  await attempt(async () => {
    once.value = { title: `One-time password of ${p.name}, shown this once`, text: (await api.resetPassword(p.name)).password }
  })
  loadAll()
}
async function remove(p: api.Person) {
  if (await removed('people', p.name, 'The journal keeps what they did.', api.removePerson)) loadAll()
}
async function end(l: api.Login) {
  if (await attempt(() => api.endLogin(l.id))) {
    if (l.present) window.location.reload()
    loadAll()
  }
}
async function withdraw(i: api.Invitation) {
  if (await attempt(() => api.withdraw(i.id))) loadAll()
}
const copy = () => navigator.clipboard.writeText(once.value?.text ?? '')
</script>

<template>
  <div class="pagehead">
    <h1>People</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter people and logins" clearable aria-label="Filter people and logins" />
    <div class="grow" />
    <template v-if="admin">
      <ElButton @click="adding = 'add'">Add a person</ElButton>
      <ElButton type="primary" @click="adding = 'invite'">Invite by link</ElButton>
    </template>
  </div>
  <ListFrame
    :loading="people.loading.value"
    :error="people.error.value"
    :total="people.data.value?.length"
    :shown="shownPeople.length"
    :retry="loadAll"
  >
    <template #empty>Nobody is here yet.</template>
    <table class="list">
      <colgroup>
        <col style="width: 14%" />
        <col style="width: 20%" />
        <col style="width: 16%" />
        <col />
        <col v-if="admin" style="width: 190px" />
      </colgroup>
      <thead>
        <tr>
          <th>Name</th>
          <th>Full name</th>
          <th>Role</th>
          <th>Permissions</th>
          <th v-if="admin"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in shownPeople" :key="p.id">
          <td class="mono">{{ p.name }}</td>
          <td>
            {{ p.fullName }}
            <div v-if="p.mustChange" class="soft">has a one-time password</div>
          </td>
          <td>
            <ElSelect
              v-if="admin && !p.elsewhere"
              :model-value="p.role"
              size="small"
              :aria-label="`Role of ${p.name}`"
              @update:model-value="(r: api.Role) => setRole(p, r)"
              ><ElOption v-for="r in roles" :key="r" :value="r" :label="r"
            /></ElSelect>
            <template v-else
              >{{ p.role }}
              <div v-if="p.elsewhere" class="soft">set by groups</div></template
            >
          </td>
          <td class="soft">
            {{ duties[p.role] }}{{ p.elsewhere ? '; signs in at the identity provider' : '' }}
            <div v-if="service?.provider && !p.elsewhere && p.name === person?.name">
              <button class="plain" type="button" @click="tie">Tie yourself to {{ service.provider }}</button>
            </div>
          </td>
          <td v-if="admin">
            <template v-if="p.name !== person?.name"
              ><button class="plain" type="button" @click="reset(p)">Reset password</button> ·
              <button class="plain" type="button" @click="remove(p)">Remove</button></template
            ><span v-else class="soft">you</span>
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <template v-if="admin && invitations.data.value?.length">
    <div class="pagehead sub"><h2>Invitations</h2></div>
    <ListFrame
      :loading="invitations.loading.value"
      :error="invitations.error.value"
      :total="invitations.data.value?.length"
      :shown="shownInvitations.length"
      :retry="loadAll"
    >
      <table class="list">
        <colgroup>
          <col style="width: 12%" />
          <col style="width: 14%" />
          <col />
          <col style="width: 14%" />
          <col style="width: 14%" />
          <col style="width: 110px" />
        </colgroup>
        <thead>
          <tr>
            <th>State</th>
            <th>Role</th>
            <th>For</th>
            <th>By</th>
            <th>Expires</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="i in shownInvitations" :key="i.id">
            <td><StateMark :state="i.state" /></td>
            <td>{{ i.role }}</td>
            <td>
              {{ i.note || '–' }}<span v-if="i.taken" class="soft"> taken by {{ i.taken }}</span>
            </td>
            <td>{{ i.by }}</td>
            <td>{{ dateOnly(i.expires) }}</td>
            <td>
              <button class="plain" type="button" @click="withdraw(i)">{{ i.state === 'open' ? 'Withdraw' : 'Clear' }}</button>
            </td>
          </tr>
        </tbody>
      </table>
    </ListFrame>
  </template>
  <div class="pagehead sub">
    <h2>{{ admin ? 'Open logins' : 'Your open logins' }}</h2>
  </div>
  <ListFrame
    :loading="logins.loading.value"
    :error="logins.error.value"
    :total="logins.data.value?.length"
    :shown="shownLogins.length"
    :retry="loadAll"
  >
    <table class="list">
      <colgroup>
        <col style="width: 14%" />
        <col />
        <col style="width: 16%" />
        <col style="width: 14%" />
        <col style="width: 14%" />
        <col style="width: 110px" />
      </colgroup>
      <thead>
        <tr>
          <th>Person</th>
          <th>Where</th>
          <th>From</th>
          <th>Signed in</th>
          <th>Last used</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="l in shownLogins" :key="l.id">
          <td class="mono">{{ l.person }}</td>
          <td>{{ l.label || l.kind }}<span v-if="l.present" class="good"> this one</span></td>
          <td class="mono">{{ l.from || '–' }}</td>
          <td>{{ dateOnly(l.created) }}</td>
          <td class="soft">{{ ago(l.used) }}</td>
          <td><button class="plain" type="button" @click="end(l)">End</button></td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <ElDialog v-model="open" :title="adding === 'invite' ? 'Invite somebody by a link' : 'Add somebody'" width="520px" append-to-body>
    <ErrorNote v-if="action.failure.value && !action.failure.value.field" :error="action.failure.value" />
    <ElForm label-position="top" @submit.prevent="submit">
      <template v-if="adding === 'add'">
        <ElFormItem label="User name" :error="fieldError('name')"
          ><ElInput v-model="form.name" name="name" placeholder="isla" autofocus
        /></ElFormItem>
        <ElFormItem label="Full name" :error="fieldError('fullName')"
          ><ElInput v-model="form.fullName" name="fullName" placeholder="Isla Faro"
        /></ElFormItem>
      </template>
      <ElFormItem v-else label="For (note)" :error="fieldError('note')"
        ><ElInput v-model="form.note" name="note" placeholder="Isla, ropes" autofocus
      /></ElFormItem>
      <ElFormItem label="Role" :error="fieldError('role')">
        <ElRadioGroup v-model="form.role"
          ><ElRadioButton v-for="r in roles" :key="r" :value="r">{{ r }}</ElRadioButton></ElRadioGroup
        >
      </ElFormItem>
      <p class="soft">
        {{ form.role }}: {{ duties[form.role] }}.
        {{ adding === 'invite' ? 'The link works once, for seven days.' : 'They get a one-time password, which they replace.' }}
      </p>
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton
        ><ElButton type="primary" native-type="submit" :loading="action.busy.value">{{
          adding === 'invite' ? 'Make the link' : 'Add'
        }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
  <ElDialog v-model="shownOnce" :title="once?.title" width="560px" append-to-body>
    <p>Share it with them only; it cannot be shown again.</p>
    <pre class="body once">{{ once?.text }}</pre>
    <div class="actions"><ElButton @click="copy">Copy</ElButton><ElButton type="primary" @click="shownOnce = false">Done</ElButton></div>
  </ElDialog>
</template>

<style scoped>
.filter {
  width: 240px;
}
.sub {
  margin: 22px 0 8px;
}
.sub h2 {
  margin: 0;
}
</style>
