<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElRadioButton, ElRadioGroup } from 'element-plus'
import { computed, ref } from 'vue'
import * as api from '../api'
import { useProgress } from '../use/progress'
import { useAction } from '../use/resource'
import { altered, described, dropped, formOf, nameFrom } from '../use/serverform'
import DocumentField from './DocumentField.vue'
import ErrorNote from './ErrorNote.vue'
import OperationPicker from './OperationPicker.vue'
import AccessFields from './server/AccessFields.vue'
import AddressFields from './server/AddressFields.vue'
import AdvancedFields from './server/AdvancedFields.vue'
import CommandFields from './server/CommandFields.vue'

/** Registers a server, or changes anything about one. */
const props = defineProps<{ server?: api.Server }>()
const emit = defineEmits<{ close: []; done: [server: api.Server] }>()
const form = ref(formOf(props.server))
const info = ref<api.DocumentInfo>()
const plain = ref(false)
const anyway = ref(false)
const { busy, failure, run, fieldError: problem } = useAction()
const progress = useProgress()
let asked: AbortController | undefined
const fresh = computed(() => props.server === undefined)
const shown = computed({ get: () => true, set: () => leave() })
const title = computed(() => (props.server ? `Change ${props.server.name}` : 'Register a server'))
const action = computed(() => (props.server ? 'Test and save' : 'Test and register'))
const isRest = computed(() => form.value.kind === 'rest')
const isCommand = computed(() => form.value.kind === 'command')
if (props.server && isRest.value)
  void api.operations(props.server.name).then(
    (d) => (info.value = d),
    () => {},
  )
const doing = computed(
  () => progress.text.value || (isCommand.value ? 'Starting, negotiating, listing tools …' : 'Connecting, negotiating, listing tools …'),
)
const drops = computed(() => (props.server ? dropped(form.value, props.server) : []))
const wantsToken = computed(() => {
  const f = form.value
  if (isCommand.value) return f.secretEnv !== ''
  return f.grant === '' && f.per !== 'agent'
})
const tokenLabel = computed(() => {
  if (props.server?.secret) return `New value (now given: ${props.server.secret})`
  if (isRest.value) return 'Key or token, if it wants one; the document says how it is sent'
  return isCommand.value ? `Value of ${form.value.secretEnv}` : 'Bearer token, if it wants one'
})
const canForce = computed(() => failure.value?.finding !== undefined || anyway.value)
const inTheOpen = computed(() => failure.value?.message.includes('a secret in the open') ?? false)
const upFront = ['name', 'url', 'command', 'args', 'dir', 'env', 'secretEnv', 'token', 'document', 'documentURL', 'operations', 'per']
const openAdvanced = computed(() => {
  const field = failure.value?.field ?? ''
  return field !== '' && !upFront.includes(field) && !field.startsWith('signIn') && field !== 'privateRanges'
})

function read(from: api.DocumentSource, what: api.DocumentInfo) {
  form.value.document = from
  info.value = what
  if (props.server) return
  form.value.operations = what.operations.filter((o) => o.readOnly && !o.problem).map((o) => ({ id: o.id }))
  if (!form.value.url && /^https?:/.test(what.server)) form.value.url = what.server
  if (!form.value.name) form.value.name = nameFrom(what.title)
}
function leave() {
  asked?.abort()
  emit('close')
}
async function submit() {
  const f = form.value
  const further = {
    token: f.token.trim() === '' || !wantsToken.value ? undefined : f.token,
    anyway: anyway.value || undefined,
    plain: plain.value || undefined,
  }
  asked = new AbortController()
  const signal = asked.signal
  const done = await run(() =>
    progress.during(
      f.name,
      props.server
        ? api.updateServer(props.server.name, { ...altered(f, props.server), ...further }, signal)
        : api.registerServer({ ...described(f), ...further }, signal),
    ),
  )
  if (done) emit('done', done)
}
</script>

<template>
  <ElDialog v-model="shown" :title="title" width="600px" top="5vh" append-to-body>
    <ErrorNote v-if="failure && !failure.field" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem v-if="fresh" label="Type">
        <ElRadioGroup v-model="form.kind">
          <ElRadioButton value="address">URL</ElRadioButton>
          <ElRadioButton value="command">Command</ElRadioButton>
          <ElRadioButton value="rest">REST API</ElRadioButton>
        </ElRadioGroup>
      </ElFormItem>
      <ElFormItem v-if="fresh" label="Name" :error="problem('name')">
        <ElInput v-model="form.name" name="name" placeholder="sailings" autofocus />
      </ElFormItem>
      <ElFormItem
        v-if="isRest"
        :label="fresh ? 'Its OpenAPI document' : 'Another OpenAPI document (optional)'"
        :error="problem('document') || problem('documentURL')"
      >
        <DocumentField @read="read" />
      </ElFormItem>
      <ElFormItem v-if="isRest && info" label="Operations that become tools" :error="problem('operations')">
        <OperationPicker v-model="form.operations" :operations="info.operations" />
      </ElFormItem>
      <CommandFields v-if="isCommand" v-model="form" :problem="problem" />
      <AddressFields v-else v-model="form" :problem="problem" :fresh="fresh" />
      <AccessFields v-if="!isCommand" v-model="form" :problem="problem" :fresh="fresh" />
      <ElFormItem v-if="wantsToken" :label="tokenLabel" :error="problem('token')">
        <ElInput v-model="form.token" name="token" type="password" autocomplete="off" placeholder="encrypted, never shown again" />
      </ElFormItem>
      <details class="more" :open="openAdvanced">
        <summary>Advanced settings</summary>
        <AdvancedFields v-model="form" :problem="problem" :fresh="fresh" />
      </details>
      <ElCheckbox v-if="inTheOpen || plain" v-model="plain">These values are no secrets; keep them in the open</ElCheckbox>
      <ElCheckbox v-if="canForce" v-model="anyway">Save even though it cannot be reached now</ElCheckbox>
      <p v-if="drops.length" class="warn" role="status">Saving drops {{ drops.join('; ') }}.</p>
      <div class="actions">
        <span v-if="busy" class="soft doing" role="status">{{ doing }}</span>
        <ElButton @click="leave">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">{{ action }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.more {
  margin-bottom: 14px;
}
.more summary {
  cursor: pointer;
  margin-bottom: 8px;
}
.doing {
  overflow-wrap: anywhere;
}
</style>
