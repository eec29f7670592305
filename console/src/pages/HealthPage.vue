<script setup lang="ts">
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import * as api from '../api'
import ListFrame from '../parts/ListFrame.vue'
import StateMark from '../parts/StateMark.vue'
import StateLine from '../parts/StateLine.vue'
import { moment } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'

/** What goes wrong now, and how every server did. */
const since = ref('24h')
const spans = [
  { value: '1h', label: 'the last hour' },
  { value: '24h', label: 'the last day' },
  { value: '7d', label: 'the last week' },
]
const { filter, match } = useFilter()
const board = useResource(() => api.health(since.value))
const incidents = useResource(() => api.incidents())
const load = () => {
  void board.load()
  void incidents.load()
}
onMounted(load)
watch(since, load)
useLive({ topics: (t) => ['servers', 'incidents'].includes(t) && load(), back: load })
// A service that has just been started has no day behind it.
let chosen = false
watch(
  () => board.data.value,
  (list) => {
    const first = Math.min(...(list ?? []).flatMap((h) => h.states.map((s) => new Date(s.at).getTime())))
    if (!chosen && list?.length && Date.now() - first < 3_600_000) since.value = '1h'
    chosen = chosen || !!list
  },
)
const hours = computed(() => ({ '1h': 1, '24h': 24, '7d': 168 })[since.value] ?? 24)
const rows = computed(() => (board.data.value ?? []).filter((h) => match(h.server, h.state, h.cause, h.title)))
const listed = computed(() => (incidents.data.value ?? []).filter((i) => match(i.server, i.cause, i.title, i.who)))
const open = computed(() => listed.value.filter((i) => !i.until))
const over = computed(() => listed.value.filter((i) => i.until).slice(0, 20))
</script>

<template>
  <div class="pagehead">
    <h1>Health</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter by server, cause, who" clearable aria-label="Filter health" />
    <ElSelect v-model="since" class="pick" aria-label="How far back">
      <ElOption v-for="s in spans" :key="s.value" :value="s.value" :label="s.label" />
    </ElSelect>
    <span v-if="incidents.data.value" :class="open.length ? 'bad' : 'good'">{{
      open.length === 0 ? 'nothing goes wrong' : open.length === 1 ? '1 incident lasts' : `${open.length} incidents last`
    }}</span>
  </div>
  <ListFrame
    :loading="incidents.loading.value"
    :error="incidents.error.value"
    :total="incidents.data.value?.length"
    :shown="listed.length"
    :retry="load"
  >
    <template #empty>Nothing went wrong yet. When a server fails, its cause stands here within seconds.</template>
    <table class="list">
      <colgroup>
        <col style="width: 13%" />
        <col style="width: 19%" />
        <col />
        <col style="width: 12%" />
        <col style="width: 15%" />
      </colgroup>
      <thead>
        <tr>
          <th>Server</th>
          <th>Cause</th>
          <th>What is wrong</th>
          <th>Who</th>
          <th>Since</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="i in [...open, ...over]" :key="i.id" :class="{ past: i.until }">
          <td>
            <RouterLink :to="`/servers/${i.server}`">{{ i.server }}</RouterLink>
          </td>
          <td>
            <RouterLink :to="`/incidents/${i.id}`" class="mono">{{ i.cause }}</RouterLink>
          </td>
          <td>{{ i.title }}</td>
          <td>{{ i.who }}</td>
          <td>
            {{ moment(i.since) }}<span v-if="i.until" class="soft"> – {{ moment(i.until) }}</span
            ><span v-if="i.reopened" class="warn"> again</span>
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <div class="pagehead gap"><h2>Servers</h2></div>
  <ListFrame :loading="board.loading.value" :error="board.error.value" :total="board.data.value?.length" :shown="rows.length" :retry="load">
    <template #empty>No server is registered yet. <RouterLink to="/servers">Register the first</RouterLink>.</template>
    <table class="list">
      <colgroup>
        <col style="width: 15%" />
        <col style="width: 11%" />
        <col />
        <col style="width: 30%" />
      </colgroup>
      <thead>
        <tr>
          <th>Server</th>
          <th>State</th>
          <th>{{ spans.find((s) => s.value === since)?.label }}</th>
          <th>Cause</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in rows" :key="h.server">
          <td>
            <RouterLink :to="`/servers/${h.server}`">{{ h.server }}</RouterLink>
          </td>
          <td><StateMark :state="h.state" /></td>
          <td><StateLine :states="h.states" :hours="hours" /></td>
          <td class="soft">{{ h.title }}</td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
</template>

<style scoped>
.pick {
  flex: 0 0 160px;
}
.filter {
  flex: 0 0 260px;
}
.gap {
  margin-top: 18px;
}
.past td {
  color: var(--ink-soft);
}
</style>
