<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import * as api from '../api'
import AgentDialog from '../parts/AgentDialog.vue'
import MachineDialog from '../parts/MachineDialog.vue'
import ListFrame from '../parts/ListFrame.vue'
import StateMark from '../parts/StateMark.vue'
import { attempt } from '../use/confirm'
import { ago, fullMoment } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const { may } = useSession()
const router = useRouter()
const { filter, among } = useFilter()
const adding = ref(false)
const inviting = ref(false)
const codes = useResource(() => api.machineCodes())
const { data, error, loading, load } = useResource(() => api.agents())
onMounted(() => {
  void load()
  void codes.load()
})
async function withdraw(c: api.MachineCode) {
  if (await attempt(() => api.withdrawMachine(c.id))) void codes.load()
}
function again() {
  void load()
  void codes.load()
}
useLive({ topics: (t) => t === 'agents' && again(), back: again })
const shown = computed(() => among(data.value, (a) => [a.name, a.kind, a.owner || 'the team']))
const shownCodes = computed(() => among(codes.data.value, (c) => [c.agent, c.by, c.state, c.host]))
function added(a: api.Agent) {
  adding.value = false
  void router.push(`/agents/${a.name}`)
}
</script>

<template>
  <div class="pagehead">
    <h1>Agents</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter by name, kind, owner" clearable aria-label="Filter agents" />
    <div class="grow" />
    <ElButton v-if="may('agents.speak')" @click="inviting = true">Enrol another machine</ElButton>
    <ElButton v-if="may('agents.keep')" type="primary" @click="adding = true">Add an agent</ElButton>
  </div>
  <ListFrame :loading="loading" :error="error" :total="data?.length" :shown="shown.length" :retry="load">
    <template #empty>
      <p>There is no agent yet: an agent is one assistant in use.</p>
      <p v-if="may('agents.keep')">
        <button class="plain" type="button" @click="adding = true">Add the first one</button>, then enrol it with
        <code>bouncer enrol NAME --config FILE</code>.
      </p>
    </template>
    <table class="list">
      <thead>
        <tr>
          <th>Name</th>
          <th>Kind</th>
          <th>Owner</th>
          <th>State</th>
          <th class="num">Valid passes</th>
          <th>Last seen</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in shown" :key="a.id" class="opens">
          <td>
            <RouterLink class="whole" :to="`/agents/${a.name}`">{{ a.name }}</RouterLink>
          </td>
          <td>{{ a.kind }}</td>
          <td>{{ a.owner || 'the team' }}</td>
          <td>
            <StateMark :state="a.paused ? 'paused' : 'active'" />
            <div v-if="!a.confirmed" class="soft">name not confirmed</div>
          </td>
          <td class="num">
            <span :class="{ soft: a.passes === 0 }">{{ a.passes }}</span>
          </td>
          <td class="soft">{{ ago(a.seen) }}</td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <template v-if="codes.data.value?.length">
    <div class="pagehead sub"><h2>Codes for other machines</h2></div>
    <ListFrame
      :loading="codes.loading.value"
      :error="codes.error.value"
      :total="codes.data.value?.length"
      :shown="shownCodes.length"
      :retry="codes.load"
    >
      <table class="list">
        <thead>
          <tr>
            <th>Agent</th>
            <th>State</th>
            <th>By</th>
            <th>Until</th>
            <th>Used</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in shownCodes" :key="c.id">
            <td>{{ c.agent }}</td>
            <td><StateMark :state="c.state" /></td>
            <td>{{ c.by }}</td>
            <td>{{ fullMoment(c.expires) }}</td>
            <td>
              <template v-if="c.used">{{ ago(c.used) }} on {{ c.host || 'a machine' }}, from {{ c.from }}</template
              ><template v-else>–</template>
            </td>
            <td>
              <button class="plain" type="button" @click="withdraw(c)">{{ c.state === 'open' ? 'Withdraw' : 'Clear' }}</button>
            </td>
          </tr>
        </tbody>
      </table>
    </ListFrame>
  </template>
  <MachineDialog v-if="inviting" @close="inviting = false" @made="codes.load" />
  <AgentDialog v-if="adding" @close="adding = false" @done="added" />
</template>

<style scoped>
.sub {
  margin: 22px 0 8px;
}
.sub h2 {
  margin: 0;
}
.filter {
  width: 280px;
}
</style>
