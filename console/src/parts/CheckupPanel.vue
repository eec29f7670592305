<script setup lang="ts">
import { ElButton, ElMessage } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import * as api from '../api'
import { fullMoment } from '../use/format'
import { useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'
import FoundNote from './FoundNote.vue'

/** The last close look at a server: its stages as a picture, and what was found. */
const props = defineProps<{ server: string }>()
const emit = defineEmits<{ applied: [] }>()
const report = ref<api.Checkup>()
const doing = ref('')
const look = useAction()

async function last() {
  report.value = await api.lastCheckup(props.server).catch(() => undefined)
}
onMounted(last)
watch(() => props.server, last)

async function again() {
  const watchWord = crypto.randomUUID()
  const timer = setInterval(async () => {
    const now = await api.checkupProgress(watchWord).catch(() => undefined)
    if (now?.busy) doing.value = `${now.stage}: ${now.words}`
  }, 500)
  const done = await look.run(() => api.checkUp({ server: props.server, watch: watchWord }))
  clearInterval(timer)
  doing.value = ''
  if (done) report.value = done
}
async function apply(f: api.Found) {
  const fix = f.fix
  if (!fix) return
  const done = await look.run(() =>
    api.updateServer(props.server, { [fix.field]: fix.field === 'startSeconds' ? Number(fix.value) : fix.value }),
  )
  if (!done) return
  ElMessage.success(`${fix.field} is now ${fix.value}`)
  emit('applied')
  await again()
}
const stages = computed(() => report.value?.stages.filter((s) => s.outcome !== 'skipped' || reached(s.name)) ?? [])
/** What comes after a failure is shown as not reached; what does not concern the server is left out. */
function reached(name: string) {
  const list = report.value?.stages ?? []
  const failed = list.findIndex((s) => s.outcome === 'failed')
  return failed >= 0 && list.findIndex((s) => s.name === name) > failed && name !== 'call'
}
</script>

<template>
  <section class="sheet pad look" aria-label="Checkup">
    <div class="top">
      <h2>Checkup</h2>
      <span v-if="report" class="soft">{{ fullMoment(report.at) }}, {{ report.ms }} ms</span>
      <span v-if="doing" class="soft" role="status">{{ doing }}</span>
      <span class="grow" />
      <ElButton size="small" :loading="look.busy.value" @click="again">Look closely</ElButton>
    </div>
    <ErrorNote v-if="look.failure.value" :error="look.failure.value" />
    <p v-if="!report && !look.busy.value" class="soft">
      Nobody looked closely since the service started. It finds the cause of what is wrong, or says that all is well.
    </p>
    <template v-if="report">
      <ol class="way">
        <li v-for="s in stages" :key="s.name" :class="s.outcome">
          <strong>{{ s.name }}</strong>
          <span class="soft">{{ s.outcome === 'skipped' ? 'not reached' : `${s.ms} ms` }}</span>
          <span class="fact" :title="s.facts.join('; ')">{{ s.facts.join('; ') }}</span>
        </li>
      </ol>
      <p v-if="report.healthy" class="good">It is healthy: {{ report.tools }} tools, revision {{ report.revision }}.</p>
      <FoundNote v-for="f in report.findings" :key="f.cause + f.title" :found="f" :busy="look.busy.value" @apply="apply(f)" />
    </template>
  </section>
</template>

<style scoped>
.look {
  margin-bottom: 18px;
}
.top {
  display: flex;
  gap: 12px;
  align-items: center;
}
.top h2 {
  margin: 0;
}
.grow {
  flex: 1;
}
.way {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  margin: 10px 0;
  padding: 0;
  list-style: none;
}
.way li {
  display: flex;
  flex: 1 1 120px;
  min-width: 0;
  flex-direction: column;
  padding: 6px 10px;
  border: 1px solid var(--line);
  border-top: 3px solid var(--good);
  border-radius: 5px;
}
.way li.failed {
  border-top-color: var(--bad);
}
.way li.skipped {
  border-top-color: var(--line);
}
.fact {
  overflow: hidden;
  color: var(--ink-soft);
  font-size: 11px;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
