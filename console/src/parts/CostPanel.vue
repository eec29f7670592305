<script setup lang="ts">
import { computed, onMounted, watch } from 'vue'
import * as api from '../api'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** What an agent's list of tools takes of its model's context window, and what would make it less. */
const props = defineProps<{ agent: string }>()
const cost = useResource(() => api.cost(props.agent))
onMounted(cost.load)
watch(() => props.agent, cost.load)
useLive({ topics: () => void cost.load(), back: () => void cost.load() })
defineExpose({ load: cost.load })

const most = 6
const c = computed(() => cost.data.value)
const top = computed(() => Math.max(1, ...(c.value?.servers ?? []).map((s) => s.tokens)))
const servers = computed(() => (c.value?.servers ?? []).slice(0, most))
const rest = computed(() => (c.value?.servers.length ?? 0) - servers.value.length)
const number = (n: number) => n.toLocaleString('en')
const percent = (share: number) => `${(100 * share).toFixed(1)} %`
</script>

<template>
  <section class="sheet pad cost">
    <ErrorNote v-if="cost.error.value" :error="cost.error.value" :retry="cost.load" />
    <template v-if="c">
      <h2>Tool list in the model’s window</h2>
      <p v-if="c.tools === 0" class="soft">No tool is within its reach, so nothing is listed.</p>
      <template v-else>
        <p>
          <strong>{{ number(c.tokens) }} tokens</strong>
          <span v-if="c.finder"> for two tools that search the others; all {{ c.tools }} would take {{ number(c.all) }}</span>
          <span v-else> for {{ c.tools === 1 ? '1 tool' : `${c.tools} tools` }}</span>
          <span v-if="c.contextTokens">, {{ percent(c.share) }} of a window of {{ number(c.contextTokens) }}</span>
          <span v-else class="soft"> · the size of its window is not known; say it with Alter</span>
        </p>
        <div v-if="c.contextTokens" class="window" role="img" :aria-label="`${percent(c.share)} of the window`">
          <div :class="{ much: c.share > 0.05 }" :style="{ width: `${Math.min(100, 100 * c.share)}%` }" />
        </div>
        <table class="bars" aria-label="Tokens by server">
          <tbody>
            <tr v-for="s in servers" :key="s.server">
              <th scope="row">
                <RouterLink :to="`/servers/${s.server}`">{{ s.server }}</RouterLink>
              </th>
              <td class="bar"><div :class="{ idle: s.calls === 0 }" :style="{ width: `${(100 * s.tokens) / top}%` }" /></td>
              <td class="num">{{ number(s.tokens) }}</td>
              <td class="soft">
                {{ s.tools === 1 ? '1 tool' : `${s.tools} tools` }}, {{ s.calls === 1 ? '1 call' : `${number(s.calls)} calls` }}
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="rest > 0" class="soft">and {{ rest }} more servers</p>
        <ul v-if="c.suggestions.length" class="less">
          <li v-for="s in c.suggestions.slice(0, 6)" :key="s.text">
            <span class="saves">−{{ number(s.saves) }}</span> {{ s.text }}
            <code v-if="s.command">{{ s.command }}</code>
          </li>
        </ul>
        <p class="soft">Calls of {{ Math.max(1, c.days) === 1 ? 'the last day' : `${c.days} days` }}. Tokens are {{ c.basis }}.</p>
      </template>
    </template>
  </section>
</template>

<style scoped>
.cost p {
  margin: 6px 0;
}
.window {
  height: 6px;
  margin: 4px 0 8px;
  border-radius: 3px;
  background: var(--line);
  overflow: hidden;
}
.window div {
  height: 100%;
  background: var(--accent);
}
.window .much {
  background: var(--warn);
}
.bars {
  width: 100%;
  border-collapse: collapse;
}
.bars th {
  width: 104px;
  font-weight: normal;
  text-align: left;
}
.bars td,
.bars th {
  padding: 2px 8px 2px 0;
  vertical-align: middle;
}
.bars .num {
  width: 48px;
  text-align: right;
}
.bars td:last-child {
  width: 118px;
}
.bar div {
  height: 10px;
  min-width: 2px;
  border-radius: 2px;
  background: var(--accent);
}
.bar .idle {
  background: var(--quiet);
}
.less {
  margin: 8px 0;
  padding: 0;
  list-style: none;
}
.less li {
  padding: 3px 0;
  border-top: 1px solid var(--line);
}
.saves {
  display: inline-block;
  min-width: 56px;
  color: var(--good);
  font-variant-numeric: tabular-nums;
}
</style>
