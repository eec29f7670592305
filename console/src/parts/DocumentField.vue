<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { ref } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** Reads an OpenAPI document from a file, from pasted text or from an address. */
const emit = defineEmits<{ read: [source: api.DocumentSource, info: api.DocumentInfo] }>()
const text = ref('')
const { busy, failure, run } = useAction()

async function read() {
  const from = text.value.trim()
  const source: api.DocumentSource = /^https?:\/\/\S+$/.test(from) ? { documentURL: from } : { document: text.value }
  const info = await run(() => api.readDocument(source))
  if (info) emit('read', source, info)
}
async function choose(ev: Event) {
  const file = (ev.target as HTMLInputElement).files?.[0]
  if (!file) return
  text.value = await file.text()
  await read()
}
</script>

<template>
  <div class="document">
    <ElInput
      v-model="text"
      name="document"
      type="textarea"
      :rows="3"
      placeholder="Paste the OpenAPI document (JSON or YAML), or its address"
    />
    <div class="row">
      <ElButton size="small" :loading="busy" :disabled="!text.trim()" @click="read">Load document</ElButton>
      <label class="soft">or choose a file <input type="file" accept=".json,.yaml,.yml" @change="choose" /></label>
    </div>
    <ErrorNote v-if="failure" :error="failure" />
  </div>
</template>

<style scoped>
.document {
  width: 100%;
}
.row {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-top: 5px;
}
</style>
