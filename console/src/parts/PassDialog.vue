<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElInputNumber } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** Makes a pass and shows its token once. */
const props = defineProps<{ agent: string }>()
const emit = defineEmits<{ close: []; made: [] }>()
const { service } = useSession()
const form = reactive({ label: '', days: 90 })
const token = ref('')
const copied = ref(false)
const { busy, failure, run } = useAction()
const open = computed({ get: () => true, set: () => emit('close') })
const title = computed(() => (token.value ? 'The pass, shown this once' : `Make a pass for ${props.agent}`))
const entry = computed(() =>
  JSON.stringify(
    {
      mcpServers: { bouncer: { type: 'http', url: `${service.value?.address}/mcp`, headers: { Authorization: `Bearer ${token.value}` } } },
    },
    null,
    2,
  ),
)

async function submit() {
  const made = await run(() => api.makePass(props.agent, form.label, form.days))
  if (!made) return
  token.value = made.token
  emit('made')
}
async function copy() {
  await navigator.clipboard.writeText(entry.value)
  copied.value = true
}
</script>

<template>
  <ElDialog v-model="open" :title="title" width="560px" :close-on-click-modal="!token" append-to-body>
    <template v-if="token">
      <p>
        Put this entry into the assistant's configuration. It cannot be shown again;
        <code>bouncer enrol {{ agent }} --config FILE</code> writes such an entry by itself.
      </p>
      <pre class="body" tabindex="0">{{ entry }}</pre>
      <div class="actions">
        <ElButton @click="copy">{{ copied ? 'Copied' : 'Copy' }}</ElButton>
        <ElButton type="primary" @click="open = false">Done</ElButton>
      </div>
    </template>
    <ElForm v-else label-position="top" @submit.prevent="submit">
      <ErrorNote v-if="failure" :error="failure" />
      <ElFormItem label="Label"><ElInput v-model="form.label" name="label" placeholder="laptop" autofocus /></ElFormItem>
      <ElFormItem label="Valid for (days)"><ElInputNumber v-model="form.days" :min="1" :max="366" /></ElFormItem>
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">Create pass</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
