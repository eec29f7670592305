<script setup lang="ts">
import { ElButton, ElMessage } from 'element-plus'
import { computed, onMounted, onUnmounted } from 'vue'
import * as api from '../api'
import { attempt, confirmed } from '../use/confirm'
import { ago, fullMoment } from '../use/format'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** The nodes of the service, where it has several. */
const { may } = useSession()
const nodes = useResource(() => api.nodes())
let timer = 0
onMounted(() => {
  void nodes.load()
  timer = window.setInterval(() => nodes.data.value?.cluster && void nodes.load(), 3000)
})
onUnmounted(() => window.clearInterval(timer))
const behind = (n: api.Node) => Math.max(0, n.last - n.applied)
const caughtUp = computed(() => (nodes.data.value?.nodes ?? []).filter((n) => !behind(n) && !n.trouble).length)
const draining = useAction()
async function drain(node: api.Node) {
  const done = await draining.run(() => api.drainNode(node.name, !node.draining))
  if (done) ElMessage.success(node.draining ? `${node.name} takes new work` : `${node.name} takes no new work`)
  void nodes.load()
}
async function remove(node: api.Node) {
  const text = 'It is not there, and will be forgotten. Started again, it is known again.'
  if ((await confirmed(`Remove ${node.name}?`, text, 'Remove')) && (await attempt(() => api.removeNode(node.name)))) void nodes.load()
}
</script>

<template>
  <section v-if="nodes.data.value?.cluster" class="sheet pad nodes">
    <h2>Nodes</h2>
    <ErrorNote v-if="nodes.error.value" :error="nodes.error.value" :retry="nodes.load" />
    <ErrorNote v-if="draining.failure.value" :error="draining.failure.value" />
    <p>{{ caughtUp }} of {{ nodes.data.value.nodes.length }} have put in force everything that was changed.</p>
    <table class="list">
      <colgroup>
        <col style="width: 14%" />
        <col />
        <col style="width: 12%" />
        <col style="width: 24%" />
        <col style="width: 14%" />
        <col style="width: 12%" />
      </colgroup>
      <thead>
        <tr>
          <th>Node</th>
          <th>State</th>
          <th class="num">Behind by</th>
          <th>Version</th>
          <th>Started</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="n in nodes.data.value.nodes" :key="n.name">
          <td>
            {{ n.name }}<span v-if="n.here" class="soft"> (this one)</span>
            <div v-if="n.labels?.length" class="soft labels">{{ n.labels.join(', ') }}</div>
          </td>
          <td>
            <span v-if="n.trouble" class="bad">◆ {{ n.trouble }}</span>
            <span v-else-if="n.draining" class="warn">◐ takes no new work</span>
            <span v-else class="good">● serves</span>
          </td>
          <td class="num">{{ behind(n) || '–' }}</td>
          <td class="soft">{{ n.version.split('+')[0] }}</td>
          <td class="soft" :title="fullMoment(n.started)">{{ ago(n.started) }}</td>
          <td>
            <ElButton v-if="may('nodes.keep') && n.gone" size="small" @click="remove(n)">Remove</ElButton>
            <ElButton v-else-if="may('nodes.keep')" size="small" :loading="draining.busy.value" @click="drain(n)">
              {{ n.draining ? 'Resume' : 'Drain' }}
            </ElButton>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.nodes {
  margin-bottom: 18px;
}
.labels {
  font-size: 12px;
}
.nodes p {
  margin: 0 0 8px;
}
</style>
