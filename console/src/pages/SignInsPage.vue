<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import ListFrame from '../parts/ListFrame.vue'
import StateMark from '../parts/StateMark.vue'
import { attempt, confirmed } from '../use/confirm'
import { ago, dateOnly, moment } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'

const { may } = useSession()
const route = useRoute()
const { filter, match } = useFilter()
const problem = ref<api.SignInProblem>()
const list = useResource(() => api.signIns())
const programs = useResource(() => api.consents())
const begin = useAction()
function loadAll() {
  void list.load()
  void programs.load()
}
onMounted(async () => {
  loadAll()
  const id = route.query.problem
  if (typeof id === 'string') problem.value = await api.signInProblem(id).catch(() => undefined)
})
useLive({ topics: (t) => (t === 'sign-ins' || t === 'servers' || t === 'agents') && loadAll(), back: loadAll })
const whose = (s: api.SignIn) =>
  s.agent ? `agent ${s.agent}` : s.person || (s.grant === 'client' || s.grant === 'workload' ? 'Bouncer itself' : 'the team')
const todo = computed(() => (list.data.value ?? []).filter((s) => s.mine && s.state !== 'valid'))
const shown = computed(() =>
  (list.data.value ?? []).filter((s) => !(s.mine && s.state === 'needed') && match(s.server, whose(s), s.state, s.scope, s.issuer)),
)
const rest = computed(() => (list.data.value ?? []).filter((s) => !(s.mine && s.state === 'needed')).length)
const shownPrograms = computed(() => (programs.data.value ?? []).filter((c) => match(c.appName, c.agent, c.person, c.resource)))
async function connect(s: api.SignIn) {
  const to = await begin.run(() =>
    api.beginSignIn({ server: s.server, agent: s.agent || undefined, team: !s.person && !s.agent, back: '/sign-ins' }),
  )
  if (to) window.location.assign(to.url)
}
async function end(s: api.SignIn) {
  if (
    s.id &&
    (await confirmed(
      `End the sign-in at ${s.server}?`,
      `The tokens of ${whose(s)} are given back. Calls that need them are refused from now on, with the way to sign in again.`,
      'End it',
    )) &&
    (await attempt(() => api.revokeSignIn(s.id!)))
  )
    loadAll()
}
async function revoke(c: api.Consent) {
  if (
    (await confirmed(`Revoke ${c.appName}?`, `It speaks as ${c.agent} now. Its next request is refused.`, 'Revoke')) &&
    (await attempt(() => api.revokeConsent(c.id)))
  )
    loadAll()
}
</script>

<template>
  <div class="pagehead">
    <h1>Sign-ins</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter sign-ins" clearable aria-label="Filter sign-ins" />
  </div>
  <ErrorNote v-if="begin.failure.value" :error="begin.failure.value" />
  <ErrorNote v-else-if="problem" :error="new api.ApiError(0, problem.what, problem.hint)" />
  <section v-if="todo.length" class="todo" aria-label="To do">
    <h2>To do</h2>
    <div v-for="s in todo" :key="s.server + s.agent + s.person" class="task">
      <div class="grow">
        <strong>{{ s.state === 'needed' ? 'Sign in at' : 'Sign in again at' }} {{ s.server }}</strong>
        <span class="soft">
          as {{ s.person ? 'yourself' : whose(s) }}. {{ s.note || 'Until then, calls to it are refused, with a link to this.' }}</span
        >
      </div>
      <ElButton type="primary" :loading="begin.busy.value" @click="connect(s)">Connect</ElButton>
    </div>
  </section>
  <ListFrame :loading="list.loading.value" :error="list.error.value" :total="rest" :shown="shown.length" :retry="loadAll">
    <template #empty>
      <p>{{ todo.length ? 'No sign-in is in force yet; begin with the one above.' : 'No server wants a sign-in from you.' }}</p>
      <p v-if="!todo.length">Servers with OAuth appear here once they are registered.</p>
    </template>
    <table class="list">
      <colgroup>
        <col style="width: 12%" />
        <col style="width: 15%" />
        <col style="width: 10%" />
        <col />
        <col style="width: 16%" />
        <col style="width: 13%" />
        <col style="width: 150px" />
      </colgroup>
      <thead>
        <tr>
          <th>Server</th>
          <th>Account of</th>
          <th>State</th>
          <th>Scopes</th>
          <th>Expires</th>
          <th>Renewed</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in shown" :key="(s.id ?? '') + s.server">
          <td>
            <RouterLink :to="`/servers/${s.server}`">{{ s.server }}</RouterLink>
          </td>
          <td>{{ whose(s) }}</td>
          <td><StateMark :state="s.state" /></td>
          <td>
            <span class="mono">{{ s.scope || '–' }}</span>
            <div class="soft">{{ s.note || s.issuer }}</div>
          </td>
          <td>{{ s.state === 'valid' && s.renews ? 'renewed by itself' : s.expires ? moment(s.expires) : '–' }}</td>
          <td class="soft">{{ ago(s.refreshed) }}</td>
          <td>
            <template v-if="s.id && (s.mine || may('sign-ins.end', s.agent ? '?' : (s.person ?? '')))"
              ><button v-if="s.mine" class="plain" type="button" @click="connect(s)">Sign in again</button
              ><template v-if="s.mine"> · </template><button class="plain" type="button" @click="end(s)">End</button></template
            >
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <div class="pagehead sub">
    <h2>Connected programs</h2>
    <span class="soft">Assistants that know OAuth need only the address; somebody agrees once, and picks the agent.</span>
  </div>
  <ListFrame
    :loading="programs.loading.value"
    :error="programs.error.value"
    :total="programs.data.value?.length"
    :shown="shownPrograms.length"
    :retry="loadAll"
  >
    <template #empty
      >No program has signed in yet. Give an assistant the address <code>/mcp</code> without a pass, and it asks for you.</template
    >
    <table class="list">
      <colgroup>
        <col />
        <col style="width: 17%" />
        <col style="width: 12%" />
        <col style="width: 24%" />
        <col style="width: 11%" />
        <col style="width: 11%" />
        <col style="width: 84px" />
      </colgroup>
      <thead>
        <tr>
          <th>Program</th>
          <th>Acts as</th>
          <th>Approved by</th>
          <th>Address</th>
          <th>State</th>
          <th>Last used</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in shownPrograms" :key="c.id">
          <td>
            {{ c.appName }}
            <div v-if="c.why" class="warn">{{ c.why }}</div>
          </td>
          <td>
            <RouterLink :to="`/agents/${c.agent}`">{{ c.agent }}</RouterLink>
          </td>
          <td>
            {{ c.person }}
            <div class="soft">{{ dateOnly(c.created) }}</div>
          </td>
          <td class="mono">{{ c.resource }}</td>
          <td><StateMark :state="c.revoked ? 'revoked' : 'in force'" /></td>
          <td class="soft">{{ ago(c.used) }}</td>
          <td><button v-if="!c.revoked && may('consents.end', c.person)" class="plain" type="button" @click="revoke(c)">Revoke</button></td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
</template>

<style scoped>
.filter {
  width: 240px;
}
.todo {
  border-left: 3px solid var(--warn);
  background: color-mix(in srgb, var(--warn) 9%, var(--sheet));
  border-radius: 4px;
  padding: 10px 14px;
  margin-bottom: 16px;
}
.task {
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 4px 0;
}
.grow {
  flex: 1;
}
.sub {
  margin: 22px 0 8px;
}
.sub h2 {
  margin: 0;
}
</style>
