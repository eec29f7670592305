<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import * as api from '../api'
import ListFrame from '../parts/ListFrame.vue'
import SecretDialog from '../parts/SecretDialog.vue'
import { attempt, confirmed } from '../use/confirm'
import { ago, dateOnly } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const { may } = useSession()
const { filter, among } = useFilter()
const adding = ref(false)
const rotating = ref<api.Secret>()
const { data, error, loading, load } = useResource(() => api.secrets())
onMounted(load)
useLive({ topics: (t) => (t === 'secrets' || t === 'servers') && load(), back: load })
const shown = computed(() => among(data.value, (s) => [s.name, s.kind, s.owner, s.agent, s.source, ...s.usedBy]))
const soon = computed(() => (data.value ?? []).filter((s) => s.warning))
const agents = useResource(() => api.agents())
onMounted(agents.load)
// An agent's own secret is its owner's; one whose agent is not to be seen is nobody's here.
const holder = (s: api.Secret) => (s.agent ? (agents.data.value?.find((a) => a.name === s.agent)?.owner ?? '?') : (s.owner ?? ''))
const mine = (s: api.Secret) => may('secrets.rotate', holder(s))
async function remove(s: api.Secret) {
  if ((await confirmed(`Remove ${s.name}?`, 'Its value cannot be had back.', 'Remove')) && (await attempt(() => api.removeSecret(s.name))))
    void load()
}
function close() {
  adding.value = false
  rotating.value = undefined
}
function done() {
  close()
  void load()
}
function detail(s: api.Secret): string {
  if (s.facts.form !== 'jwt') return ''
  return [
    'JSON Web Token',
    s.facts.issuer && `of ${s.facts.issuer}`,
    s.facts.audience?.length && `for ${s.facts.audience.join(' ')}`,
    s.facts.scopes?.length && `scopes ${s.facts.scopes.join(' ')}`,
  ]
    .filter(Boolean)
    .join(', ')
}
</script>

<template>
  <div class="pagehead">
    <h1>Secrets</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter secrets" clearable aria-label="Filter secrets" />
    <span class="soft">Encrypted at rest; values are never shown.</span>
    <div class="grow" />
    <ElButton v-if="may('secrets.add')" type="primary" @click="adding = true">Add a secret</ElButton>
  </div>
  <div v-if="soon.length" class="soon" role="status">
    <strong>{{ soon.length === 1 ? 'One secret needs' : `${soon.length} secrets need` }} a new value</strong>
    <div v-for="s in soon" :key="s.id">
      <button v-if="mine(s)" class="plain mono" type="button" @click="rotating = s">{{ s.name }}</button><span v-else class="mono">{{
        s.name
      }}</span
      >: {{ s.warning }}
    </div>
  </div>
  <ListFrame :loading="loading" :error="error" :total="data?.length" :shown="shown.length" :retry="load">
    <template #empty>
      <p>No secrets are stored{{ may('secrets.add') ? '' : ' for you' }} yet.</p>
      <p v-if="may('secrets.add')">
        <button class="plain" type="button" @click="adding = true">Add the first one</button>, or give a server its token when you register
        it.
      </p>
      <p v-else>When a server wants a token of your own, its page lets you store it.</p>
    </template>
    <table class="list">
      <colgroup>
        <col style="width: 17%" />
        <col style="width: 10%" />
        <col style="width: 13%" />
        <col />
        <col style="width: 12%" />
        <col style="width: 11%" />
        <col style="width: 164px" />
      </colgroup>
      <thead>
        <tr>
          <th>Secret</th>
          <th>Kind</th>
          <th>Used by</th>
          <th>Details</th>
          <th>Expires</th>
          <th>Last used</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in shown" :key="s.id">
          <td class="mono">
            {{ s.name }}
            <div v-if="s.owner || s.agent" class="soft">{{ s.owner ? `${s.owner}’s own` : `agent ${s.agent}’s own` }}</div>
          </td>
          <td>{{ s.kind }}</td>
          <td>
            <template v-for="(u, i) in s.usedBy" :key="u"
              ><template v-if="i">, </template><RouterLink :to="`/servers/${u}`">{{ u }}</RouterLink></template
            ><span v-if="!s.usedBy.length" class="soft">nothing yet</span>
          </td>
          <td>
            <span v-if="s.source" class="mono">read from {{ s.source }}</span>
            <span v-else-if="detail(s)">{{ detail(s) }}</span>
            <span v-else class="soft">{{ s.rotated ? `new value of ${dateOnly(s.rotated)}` : `stored ${dateOnly(s.created)}` }}</span>
            <div v-if="s.overlap" class="soft">the value before is tried until {{ dateOnly(s.overlap) }}</div>
          </td>
          <td :class="{ bad: s.warning }">{{ s.ends ? dateOnly(s.ends) : '–' }}</td>
          <td class="soft">{{ ago(s.used) }}</td>
          <td>
            <template v-if="mine(s)"
              ><button class="plain" type="button" @click="rotating = s">Rotate</button> ·
              <button class="plain" type="button" @click="remove(s)">Remove</button></template
            >
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <SecretDialog v-if="adding || rotating" :secret="rotating" @close="close" @done="done" />
</template>

<style scoped>
.filter {
  width: 240px;
}
.soon {
  border-left: 3px solid var(--warn);
  background: color-mix(in srgb, var(--warn) 9%, var(--sheet));
  padding: 8px 12px;
  border-radius: 4px;
  margin-bottom: 12px;
}
</style>
