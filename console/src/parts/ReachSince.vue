<script setup lang="ts">
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import * as api from '../api'
import { useResource } from '../use/resource'
import ListFrame from './ListFrame.vue'

/** What an agent can use now and could not at an earlier time, and the other way round. */
const props = defineProps<{ agent: string }>()
const hour = 3_600_000
const spans = [
  { value: '1', label: 'an hour ago' },
  { value: '24', label: 'yesterday' },
  { value: '168', label: 'a week ago' },
  { value: '720', label: 'a month ago' },
  { value: 'at', label: 'a time' },
]
const span = ref('24')
const at = ref('')
const since = computed(() => (span.value === 'at' ? new Date(at.value) : new Date(Date.now() - Number(span.value) * hour)))
const difference = useResource(() => api.reachChanges(props.agent, since.value))
const ready = computed(() => !Number.isNaN(since.value.getTime()))
const load = () => ready.value && void difference.load()
onMounted(load)
watch([() => props.agent, span, at], load)
const d = computed(() => difference.data.value)
</script>

<template>
  <div class="bar">
    <span class="soft">Compared with</span>
    <ElSelect v-model="span" class="pick" aria-label="Compared with">
      <ElOption v-for="s in spans" :key="s.value" :value="s.value" :label="s.label" />
    </ElSelect>
    <ElInput v-if="span === 'at'" v-model="at" type="datetime-local" class="pick" aria-label="Time to compare with" />
    <span v-if="d && ready" class="soft">{{ d.before }} tools then, {{ d.after }} now</span>
  </div>
  <p v-if="!ready" class="soft">Choose a time.</p>
  <ListFrame
    v-else
    :loading="difference.loading.value"
    :error="difference.error.value"
    :total="d?.tools.length"
    :shown="d?.tools.length ?? 0"
    :retry="load"
  >
    <template #empty>It can use the same tools as then.</template>
    <table class="list">
      <thead>
        <tr>
          <th>Server</th>
          <th>Tool</th>
          <th>Then</th>
          <th>Now</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in d?.tools" :key="`${c.server}/${c.tool}`">
          <td>
            <RouterLink :to="`/servers/${c.server}`">{{ c.server }}</RouterLink>
          </td>
          <td class="mono">{{ c.tool }}</td>
          <td>{{ c.before || 'not at all' }}</td>
          <td>{{ c.after || 'not at all' }}</td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
</template>

<style scoped>
.pick {
  width: 180px;
}
</style>
