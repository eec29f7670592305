<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import * as api from '../api'
import { life } from '../use/format'
import { useAction } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** Makes a pass and shows its token once. */
const props = defineProps<{ agent: string }>()
const emit = defineEmits<{ close: []; made: [] }>()
const { service } = useSession()
const form = reactive({ label: '', life: '90d', inAddress: false })
const token = ref('')
const span = computed(() => life(form.life))
const wrongLife = computed(() => (span.value ? '' : 'Write it as 12h, 90d or 2w'))
const copied = ref(false)
const { busy, failure, run, fieldError } = useAction()
const open = computed({ get: () => true, set: () => emit('close') })
const title = computed(() => (token.value ? 'The pass, shown this once' : `Make a pass for ${props.agent}`))
const itsAddress = ref('')
const address = computed(() => itsAddress.value || `${service.value?.address}/mcp`)
const entry = computed(() => {
  const headers = form.inAddress ? undefined : { Authorization: `Bearer ${token.value}` }
  return JSON.stringify({ mcpServers: { bouncer: { type: 'http', url: address.value, headers } } }, null, 2)
})

async function submit() {
  const wanted = span.value
  if (!wanted) return
  const made = await run(() => api.makePass(props.agent, { label: form.label, ...wanted, inAddress: form.inAddress || undefined }))
  if (!made) return
  token.value = made.token
  itsAddress.value = made.url ?? ''
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
      <p>
        Address: <code>{{ address }}</code><template v-if="!form.inAddress"
          ><br />Header: <code>Authorization: Bearer {{ token }}</code></template
        >
      </p>
      <pre class="body" tabindex="0">{{ entry }}</pre>
      <div class="actions">
        <ElButton @click="copy">{{ copied ? 'Copied' : 'Copy' }}</ElButton>
        <ElButton type="primary" @click="open = false">Done</ElButton>
      </div>
    </template>
    <ElForm v-else label-position="top" @submit.prevent="submit">
      <ErrorNote v-if="failure && failure.field !== 'days'" :error="failure" />
      <ElFormItem label="Label"><ElInput v-model="form.label" name="label" placeholder="laptop" autofocus /></ElFormItem>
      <ElFormItem label="Valid for, like 12h, 90d or 2w" :error="wrongLife || fieldError('days')"
        ><ElInput v-model="form.life" name="life"
      /></ElFormItem>
      <ElCheckbox v-model="form.inAddress">Part of the address, for an agent that can set no header</ElCheckbox>
      <div class="actions">
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">Create pass</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
