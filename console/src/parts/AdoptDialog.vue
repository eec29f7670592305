<script setup lang="ts">
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** Takes over what an assistant has in its file: shown first, then done; the file comes back rewritten. */
const props = defineProps<{ agent: string }>()
const emit = defineEmits<{ close: []; done: [] }>()
const text = ref('')
const file = ref('')
const seen = ref<api.Adopted>()
const outcome = ref<api.Adopted>()
const { busy, failure, run } = useAction()
const open = computed({ get: () => true, set: () => leave() })
const shown = computed(() => outcome.value ?? seen.value)
const possible = computed(() => (seen.value?.items ?? []).some((i) => i.becomes !== 'left'))
const words = {
  register: 'becomes server',
  known: 'is server',
  left: 'stays in the file:',
}
function leave() {
  if (outcome.value) emit('done')
  else emit('close')
}
async function preview() {
  seen.value = await run(() => api.adoptFile({ text: text.value, file: file.value, agent: props.agent }))
}
async function apply() {
  outcome.value = await run(() => api.adoptFile({ text: text.value, file: file.value, agent: props.agent, apply: true }))
}
async function take(f: File) {
  file.value = f.name
  text.value = await f.text()
  await preview()
}
async function dropped(ev: DragEvent) {
  const f = ev.dataTransfer?.files[0]
  if (!f) return
  ev.preventDefault()
  await take(f)
}
async function chosen(ev: Event) {
  const f = (ev.target as HTMLInputElement).files?.[0]
  if (f) await take(f)
}
const copy = () => navigator.clipboard.writeText(outcome.value?.text ?? '')
function download() {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([outcome.value?.text ?? ''], { type: 'text/plain' }))
  link.download = file.value || 'configuration'
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <ElDialog v-model="open" :title="`Adopt the file of ${agent}`" width="680px" append-to-body>
    <ErrorNote v-if="failure" :error="failure" />
    <template v-if="!shown">
      <p class="soft">
        Its servers are registered, their secrets go to the locker, {{ agent }} gets rules for them, and the file comes back with Bouncer’s
        entry in their place. JSON, YAML or TOML; it is shown first.
      </p>
      <ElInput
        v-model="text"
        type="textarea"
        :rows="12"
        name="text"
        class="mono"
        aria-label="Configuration file"
        placeholder="Paste the file, or drop it here"
        @drop="dropped"
      />
      <label class="soft">or choose it <input type="file" @change="chosen" /></label>
      <div class="actions">
        <ElButton @click="leave">Cancel</ElButton>
        <ElButton type="primary" :disabled="!text.trim()" :loading="busy" @click="preview">Preview</ElButton>
      </div>
    </template>
    <template v-else>
      <p class="soft">
        Servers in {{ shown.servers }} ({{ shown.dialect === 'learned' ? 'worked out from the file' : `dialect ${shown.dialect}` }})
      </p>
      <ul>
        <li v-for="i in shown.items" :key="i.entry">
          <strong>{{ i.entry }}</strong> <span class="mono soft">{{ i.at }}</span>
          <div :class="{ warn: i.becomes === 'left', good: i.becomes === 'register' }">
            {{ words[i.becomes] }} {{ i.becomes === 'left' ? i.why : i.server }}
          </div>
        </li>
      </ul>
      <template v-if="outcome">
        <p>Save this in the place of the file, for its owner only: it holds a pass. Then restart the assistant.</p>
        <pre class="body file" tabindex="0">{{ outcome.text }}</pre>
        <div class="actions">
          <ElButton @click="copy">Copy</ElButton>
          <ElButton @click="download">Download</ElButton>
          <ElButton type="primary" @click="leave">Done</ElButton>
        </div>
      </template>
      <div v-else class="actions">
        <span v-if="busy" class="soft" role="status">Reaching them …</span>
        <ElButton @click="seen = undefined">Back</ElButton>
        <ElButton type="primary" :disabled="!possible" :loading="busy" @click="apply">Adopt</ElButton>
      </div>
    </template>
  </ElDialog>
</template>

<style scoped>
ul {
  padding-left: 18px;
  max-height: 260px;
  overflow-y: auto;
}
.file {
  max-height: 260px;
}
</style>
