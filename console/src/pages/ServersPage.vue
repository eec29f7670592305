<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import * as api from '../api'
import ImportDialog from '../parts/ImportDialog.vue'
import ListFrame from '../parts/ListFrame.vue'
import ServerDialog from '../parts/ServerDialog.vue'
import StateMark from '../parts/StateMark.vue'
import { middle, moment, place } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

const { may } = useSession()
const router = useRouter()
const { filter, among } = useFilter()
const registering = ref(false)
const importing = ref(false)
const { data, error, loading, load } = useResource(() => api.servers())
onMounted(load)
useLive({ topics: (t) => t === 'servers' && load(), back: load })

const shown = computed(() => among(data.value, (s) => [s.name, place(s), s.health.state, s.health.finding?.message]))
function imported() {
  importing.value = false
  void load()
}
function registered(s: api.Server) {
  registering.value = false
  void router.push(`/servers/${s.name}`)
}
</script>

<template>
  <div class="pagehead">
    <h1>Servers</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter by name, address, state" clearable aria-label="Filter servers" />
    <div class="grow" />
    <ElButton v-if="may('servers.keep')" @click="importing = true">Import</ElButton>
    <ElButton v-if="may('servers.keep')" type="primary" @click="registering = true">Register a server</ElButton>
  </div>
  <ListFrame :loading="loading" :error="error" :total="data?.length" :shown="shown.length" :retry="load">
    <template #empty>
      <p>No tool server is registered yet.</p>
      <p v-if="may('servers.keep')">
        <button class="plain" type="button" @click="registering = true">Register the first one</button>,
        <button class="plain" type="button" @click="importing = true">paste a snippet</button>, or run
        <code>bouncer server register NAME --url URL</code>.
      </p>
      <p v-else>Ask a maintainer or an admin to register one.</p>
    </template>
    <table class="list">
      <colgroup>
        <col style="width: 15%" />
        <col style="width: 12%" />
        <col style="width: 7%" />
        <col style="width: 11%" />
        <col style="width: 27%" />
        <col />
      </colgroup>
      <thead>
        <tr>
          <th>Name</th>
          <th>State</th>
          <th class="num">Tools</th>
          <th>Revision</th>
          <th>Address or command</th>
          <th>Note</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in shown" :key="s.id" class="opens">
          <td>
            <RouterLink class="whole" :to="`/servers/${s.name}`">{{ s.name }}</RouterLink>
          </td>
          <td><StateMark :state="s.health.state" /></td>
          <td class="num">{{ s.health.tools }}</td>
          <td>{{ s.health.revision || '–' }}</td>
          <td class="mono" :title="place(s)">{{ middle(place(s), 64) }}</td>
          <td>
            <span v-if="s.health.finding" class="bad">{{ s.health.finding.message }}</span><span v-else class="soft"
              >{{ s.health.serverName }} {{ s.health.serverVersion }}, since {{ moment(s.health.since) }}</span
            >
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <ImportDialog v-if="importing" @close="imported" @done="imported" />
  <ServerDialog v-if="registering" @close="registering = false" @done="registered" />
</template>

<style scoped>
.filter {
  width: 280px;
}
</style>
