<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import * as api from '../api'
import AgentDialog from '../parts/AgentDialog.vue'
import ListFrame from '../parts/ListFrame.vue'
import StateMark from '../parts/StateMark.vue'
import { ago } from '../use/format'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const { may } = useSession()
const router = useRouter()
const filter = ref('')
const adding = ref(false)
const { data, error, loading, load } = useResource(() => api.agents())
onMounted(load)
useLive({ topics: (t) => t === 'agents' && load(), back: load })
const shown = computed(() => {
  const f = filter.value.trim().toLowerCase()
  return (data.value ?? []).filter((a) => !f || [a.name, a.kind, a.owner || 'the team'].some((v) => v.toLowerCase().includes(f)))
})
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
        <tr v-for="a in shown" :key="a.id">
          <td>
            <RouterLink :to="`/agents/${a.name}`">{{ a.name }}</RouterLink>
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
  <AgentDialog v-if="adding" @close="adding = false" @done="added" />
</template>

<style scoped>
.filter {
  width: 280px;
}
</style>
