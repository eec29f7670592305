<script setup lang="ts">
import { onMounted, watch } from 'vue'
import * as api from '../api'
import { useResource } from '../use/resource'

/** What about a server's tools makes models choose wrongly, pay too much, or do harm. */
const props = defineProps<{ server: string; edition?: string }>()
const flaws = useResource(() => api.lintServer(props.server))
const load = () => void flaws.load()
onMounted(load)
watch([() => props.server, () => props.edition], load)
</script>

<template>
  <details v-if="flaws.data.value?.length" class="sheet pad flaws">
    <summary>
      {{ flaws.data.value.length === 1 ? '1 flaw' : `${flaws.data.value.length} flaws` }} of its tools
      <span v-if="flaws.data.value.some((f) => f.grave)" class="bad">, some of which can do harm</span>
    </summary>
    <table class="list">
      <thead>
        <tr>
          <th>Tool</th>
          <th>What</th>
          <th>Where</th>
          <th>Why it matters</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="f in flaws.data.value" :key="f.code + f.tool + f.place">
          <td class="mono">{{ f.tool || 'the list' }}</td>
          <td :class="{ bad: f.grave }">{{ f.text }}</td>
          <td class="mono">{{ f.place }}</td>
          <td class="soft">{{ f.why }}</td>
        </tr>
      </tbody>
    </table>
  </details>
</template>

<style scoped>
.flaws {
  margin-top: 12px;
}
</style>
