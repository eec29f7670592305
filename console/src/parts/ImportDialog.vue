<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'
import StateMark from './StateMark.vue'

/** Registers servers from what somebody pastes: it is read first, and shown. */
const emit = defineEmits<{ close: []; done: [] }>()
const text = ref('')
const seen = ref<api.Imported>()
const wanted = ref<Record<string, boolean>>({})
const answers = ref<Record<string, string>>({})
const anyway = ref(false)
const outcome = ref<api.Imported>()
const { busy, failure, run } = useAction()
const open = computed({ get: () => true, set: () => emit('close') })
const chosen = computed(() => (seen.value?.servers ?? []).map((s) => s.server.name).filter((name) => wanted.value[name]))
const failed = computed(() => (outcome.value?.servers ?? []).filter((s) => s.problem))

type Line = { what: string; name: string; value: string; secret?: string; asked?: boolean }
function lines(s: api.PastedServer): Line[] {
  const of = (what: string, list?: api.PastedValue[]) => (list ?? []).map((v) => ({ what, ...v }))
  return [...of('variable', s.env), ...of('header', s.headers), ...of('parameter', s.query)]
}
async function dropped(ev: DragEvent) {
  const file = ev.dataTransfer?.files[0]
  if (!file) return
  ev.preventDefault()
  await take(file)
}
async function chosenFile(ev: Event) {
  const file = (ev.target as HTMLInputElement).files?.[0]
  if (file) await take(file)
}
async function take(file: File) {
  text.value = await file.text()
  await read()
}
async function read() {
  const result = await run(() => api.importServers({ text: text.value }))
  if (!result) return
  seen.value = result
  for (const s of result.servers) wanted.value[s.server.name] = true
}
async function register() {
  const given = Object.fromEntries(Object.entries(answers.value).filter(([, v]) => v))
  const result = await run(() =>
    api.importServers({ text: text.value, apply: true, only: chosen.value, answers: given, anyway: anyway.value }),
  )
  if (!result) return
  outcome.value = result
  if (!result.servers.some((s) => s.problem)) emit('done')
}
function again() {
  for (const s of outcome.value?.servers ?? []) wanted.value[s.server.name] = !!s.problem
  outcome.value = undefined
}
</script>

<template>
  <ElDialog v-model="open" title="Import servers" width="680px" append-to-body>
    <ErrorNote v-if="failure" :error="failure" />
    <template v-if="!seen">
      <p class="soft">
        Paste what a README gives, an assistant’s configuration file (JSON, YAML or TOML), a command line, or an address; or drop the file
        here.
      </p>
      <ElInput
        v-model="text"
        type="textarea"
        :rows="12"
        name="text"
        class="mono"
        aria-label="Text to import"
        placeholder='{ "mcpServers": { "sailings": { "url": "https://…" } } }'
        @drop="dropped"
      />
      <label class="soft">or choose a file <input type="file" @change="chosenFile" /></label>
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton type="primary" :disabled="!text.trim()" :loading="busy" @click="read">Preview</ElButton>
      </div>
    </template>
    <template v-else-if="outcome">
      <ul class="outcome">
        <li v-for="s in outcome.servers" :key="s.server.name">
          <strong>{{ s.server.name }}</strong>
          <template v-if="s.problem">
            <span class="bad"> was not registered, and nothing of it was kept</span>
            <div>{{ s.problem.title }}</div>
            <div v-if="s.problem.hint" class="soft">{{ s.problem.hint }}</div>
          </template>
          <template v-else-if="s.registered">
            is registered <StateMark :state="s.registered.health.state" /> with {{ s.registered.health.tools }} tools
          </template>
        </li>
      </ul>
      <div class="actions">
        <ElButton @click="emit('done')">Close</ElButton>
        <ElButton v-if="failed.length" type="primary" @click="again">Try again with those that failed</ElButton>
      </div>
    </template>
    <template v-else-if="seen">
      <p v-for="n in seen.notes ?? []" :key="n" class="warn" role="status">Mended: {{ n }}.</p>
      <section v-for="s in seen.servers" :key="s.server.name" class="read">
        <ElCheckbox v-model="wanted[s.server.name]"
          ><strong>{{ s.server.name }}</strong></ElCheckbox
        >
        <div class="mono at">{{ s.server.url || [s.server.command, ...(s.server.args ?? [])].join(' ') }}</div>
        <div v-for="l in lines(s.server)" :key="l.what + l.name" class="line">
          <span class="soft">{{ l.what }}</span> <span class="mono">{{ l.name }}</span>
          <ElInput
            v-if="l.asked"
            v-model="answers[`${s.server.name}/${l.name}`]"
            type="password"
            size="small"
            class="answer"
            :placeholder="`value for ${l.value}`"
            :aria-label="`Value of ${l.name} for ${s.server.name}`"
          />
          <span v-else-if="l.secret" class="good">goes to the locker: {{ l.secret }}</span>
          <span v-else class="mono">{{ l.value }}</span>
        </div>
        <div v-for="n in s.server.notes ?? []" :key="n" class="warn">{{ n }}</div>
      </section>
      <ElCheckbox v-model="anyway">Save even those that cannot be reached now</ElCheckbox>
      <div class="actions">
        <ElButton @click="seen = undefined">Back</ElButton>
        <ElButton type="primary" :disabled="!chosen.length" :loading="busy" @click="register">{{
          busy ? 'Reaching them …' : chosen.length === 1 ? 'Register 1 server' : `Register ${chosen.length} servers`
        }}</ElButton>
      </div>
    </template>
  </ElDialog>
</template>

<style scoped>
.read {
  border-top: 1px solid var(--line);
  padding: 8px 0;
}
.at {
  overflow-wrap: anywhere;
  margin-bottom: 4px;
}
.line {
  display: flex;
  gap: 8px;
  align-items: center;
}
.answer {
  max-width: 280px;
}
.outcome {
  margin: 0;
  padding-left: 18px;
}
.outcome li {
  margin-bottom: 8px;
}
</style>
