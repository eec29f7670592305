<script setup lang="ts">
import {
  ElButton,
  ElCheckbox,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
  ElInputNumber,
  ElOption,
  ElRadioButton,
  ElRadioGroup,
  ElSelect,
} from 'element-plus'
import { computed, ref } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import DocumentField from './DocumentField.vue'
import ErrorNote from './ErrorNote.vue'
import OperationPicker from './OperationPicker.vue'

/** Registers a server, or changes anything about one. */
const props = defineProps<{ server?: api.Server }>()
const emit = defineEmits<{ close: []; done: [server: api.Server] }>()
const kind = ref<'address' | 'command' | 'rest'>(
  props.server?.command ? 'command' : props.server?.transport === 'rest' ? 'rest' : 'address',
)
const name = ref(props.server?.name ?? '')
const url = ref(props.server?.url ?? '')
const command = ref(props.server?.command ?? '')
const argLines = ref((props.server?.args ?? []).join('\n'))
const dir = ref(props.server?.dir ?? '')
const envLines = ref((props.server?.env ?? []).join('\n'))
const secretEnv = ref(props.server?.secretEnv ?? '')
const tokenText = ref('')
const source = ref<api.DocumentSource>({})
const info = ref<api.DocumentInfo>()
const picks = ref<api.Operation[]>(props.server?.operations ?? [])
const sharing = ref<api.Sharing>(props.server?.sharing ?? 'auto')
const secretHeader = ref(props.server?.secretHeader ?? '')
const headerLines = ref((props.server?.headers ?? []).join('\n'))
const callSeconds = ref(props.server?.callSeconds || undefined)
const resultKiB = ref(props.server?.resultKiB || undefined)
const tooLarge = ref<'cut' | 'refuse'>(props.server?.tooLarge || 'refuse')
const plain = ref(false)
const access = ref<'token' | 'code' | 'client'>(
  props.server?.signIn?.grant === 'client' ? 'client' : props.server?.signIn ? 'code' : 'token',
)
const per = ref<api.Holder>(props.server?.per ?? 'team')
const clientId = ref('')
const clientSecret = ref('')
const isAddress = computed(() => kind.value === 'address')
const memoryMiB = ref(props.server?.memoryMiB || undefined)
const processes = ref(props.server?.processes || undefined)
const anyway = ref(false)
const { busy, failure, run } = useAction()
const shown = computed({ get: () => true, set: () => emit('close') })
const title = computed(() => (props.server ? `Change ${props.server.name}` : 'Register a server'))
const action = computed(() => (props.server ? 'Test and save' : 'Test and register'))
const isCommand = computed(() => kind.value === 'command')
const isRest = computed(() => kind.value === 'rest')
const addressLabel = computed(() => (isRest.value ? 'Base address of the API' : 'Address of the MCP endpoint'))
if (props.server && isRest.value)
  void api.operations(props.server.name).then(
    (d) => (info.value = d),
    () => {},
  )
const progress = computed(() => (isCommand.value ? 'Starting, negotiating, listing tools …' : 'Connecting, negotiating, listing tools …'))
const wantsToken = computed(
  () =>
    (!isAddress.value || (access.value === 'token' && per.value !== 'agent')) &&
    (!isCommand.value || secretEnv.value !== '' || Boolean(props.server?.secretEnv)),
)
const tokenLabel = computed(() => {
  if (props.server?.secret) return `New value (now given: ${props.server.secret})`
  if (isRest.value) return 'Key or token, if it wants one; the document says how it is sent'
  return isCommand.value ? `Value of ${secretEnv.value}` : 'Bearer token, if it wants one'
})
const fieldError = (field: string) => (failure.value?.field === field ? failure.value.message : '')
const canForce = computed(() => failure.value?.finding !== undefined || anyway.value)
const inTheOpen = computed(() => failure.value?.message.includes('a secret in the open') ?? false)
const openAdvanced = computed(() =>
  ['headers', 'secretHeader', 'memoryMiB', 'processes', 'callSeconds', 'resultKiB'].includes(failure.value?.field ?? ''),
)
const lines = (text: string) => text.split('\n').filter((l) => l.trim() !== '')

function signIn(): api.SignInWay | undefined {
  if (!isAddress.value || access.value === 'token') return undefined
  return access.value === 'client' ? { grant: 'client', clientId: clientId.value, clientSecret: clientSecret.value } : { grant: 'code' }
}
const limits = () => ({
  callSeconds: callSeconds.value,
  resultKiB: resultKiB.value,
  tooLarge: resultKiB.value ? tooLarge.value : undefined,
})
function described(): api.Registration {
  const shared = { name: name.value, sharing: sharing.value }
  if (isCommand.value) {
    return {
      ...shared,
      command: command.value,
      args: lines(argLines.value),
      dir: dir.value,
      env: lines(envLines.value),
      secretEnv: secretEnv.value,
      memoryMiB: memoryMiB.value,
      processes: processes.value,
      ...limits(),
    }
  }
  const asked = {
    ...shared,
    ...limits(),
    url: url.value,
    secretHeader: secretHeader.value || undefined,
    headers: lines(headerLines.value),
    per: per.value === 'team' ? undefined : per.value,
    signIn: signIn(),
  }
  return isRest.value ? { ...asked, ...source.value, operations: picks.value } : asked
}
function read(from: api.DocumentSource, what: api.DocumentInfo) {
  source.value = from
  info.value = what
  picks.value = what.operations.filter((o) => o.readOnly && !o.problem).map((o) => ({ id: o.id }))
  if (!url.value && /^https?:/.test(what.server)) url.value = what.server
  if (!name.value)
    name.value = what.title
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, '-')
      .replace(/^-|-$/g, '')
      .slice(0, 32)
}
const same = (a: string[], b?: string[]) => a.join('\n') === (b ?? []).join('\n')
/** altered is what differs from the server as it is; what stays is not sent. */
function altered(before: api.Server): api.ServerPatch {
  const patch: api.ServerPatch = { version: before.version, sharing: sharing.value === before.sharing ? undefined : sharing.value }
  if (isCommand.value) {
    if (command.value !== before.command) patch.command = command.value
    if (!same(lines(argLines.value), before.args)) patch.args = lines(argLines.value)
    if (dir.value !== (before.dir ?? '')) patch.dir = dir.value
    if (!same(lines(envLines.value), before.env)) patch.env = lines(envLines.value)
    if (secretEnv.value !== (before.secretEnv ?? '')) patch.secretEnv = secretEnv.value
    if ((memoryMiB.value ?? 0) !== (before.memoryMiB ?? 0)) patch.memoryMiB = memoryMiB.value ?? 0
    if ((processes.value ?? 0) !== (before.processes ?? 0)) patch.processes = processes.value ?? 0
  } else {
    if (url.value !== before.url) patch.url = url.value
    if (secretHeader.value !== (before.secretHeader ?? '')) patch.secretHeader = secretHeader.value
    if (!same(lines(headerLines.value), before.headers)) patch.headers = lines(headerLines.value)
  }
  if ((callSeconds.value ?? 0) !== (before.callSeconds ?? 0)) patch.callSeconds = callSeconds.value ?? 0
  if ((resultKiB.value ?? 0) !== (before.resultKiB ?? 0)) patch.resultKiB = resultKiB.value ?? 0
  if (tooLarge.value !== (before.tooLarge || 'refuse')) patch.tooLarge = tooLarge.value
  if (isRest.value) patch.operations = picks.value
  return patch
}
async function submit() {
  const token = tokenText.value.trim() === '' || !wantsToken.value ? undefined : tokenText.value
  const force = anyway.value || undefined
  const done = await run(() =>
    props.server
      ? api.updateServer(props.server.name, { ...altered(props.server), token, anyway: force, plain: plain.value || undefined })
      : api.registerServer({ ...described(), token, anyway: force, plain: plain.value || undefined }),
  )
  if (done) emit('done', done)
}
</script>

<template>
  <ElDialog v-model="shown" :title="title" width="520px" top="5vh" append-to-body>
    <ErrorNote v-if="failure && !failure.field" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem v-if="!server" label="Type">
        <ElRadioGroup v-model="kind">
          <ElRadioButton value="address">URL</ElRadioButton>
          <ElRadioButton value="command">Command</ElRadioButton>
          <ElRadioButton value="rest">REST API</ElRadioButton>
        </ElRadioGroup>
      </ElFormItem>
      <ElFormItem v-if="!server" label="Name" :error="fieldError('name')">
        <ElInput v-model="name" name="name" placeholder="sailings" autofocus />
      </ElFormItem>
      <ElFormItem v-if="isRest && !server" label="Its OpenAPI document" :error="fieldError('document') || fieldError('documentURL')">
        <DocumentField @read="read" />
      </ElFormItem>
      <ElFormItem v-if="isRest && info" label="Operations that become tools" :error="fieldError('operations')">
        <OperationPicker v-model="picks" :operations="info.operations" />
      </ElFormItem>
      <ElFormItem v-if="!isCommand" :label="addressLabel" :error="fieldError('url')">
        <ElInput v-model="url" name="url" :placeholder="isRest ? 'https://api.example/v2' : 'https://tools.example/mcp'" />
        <span v-if="!isRest && !server" class="soft">Which transport and revision it speaks is found out.</span>
      </ElFormItem>
      <template v-else>
        <ElFormItem label="Command (on the machine that runs Bouncer)" :error="fieldError('command')">
          <ElInput v-model="command" name="command" placeholder="/opt/skerrow/berths" />
        </ElFormItem>
        <ElFormItem label="Arguments, one per line" :error="fieldError('args')"
          ><ElInput v-model="argLines" name="args" type="textarea" :rows="2"
        /></ElFormItem>
        <ElFormItem label="Working directory (optional)" :error="fieldError('dir')"><ElInput v-model="dir" name="dir" /></ElFormItem>
        <ElFormItem label="Environment variables, NAME=value, one per line" :error="fieldError('env')"
          ><ElInput v-model="envLines" name="env" type="textarea" :rows="2"
        /></ElFormItem>
        <ElFormItem label="Environment variable for the secret (optional)" :error="fieldError('secretEnv')"
          ><ElInput v-model="secretEnv" name="secretEnv" placeholder="BERTHS_KEY"
        /></ElFormItem>
      </template>
      <template v-if="isAddress && !server">
        <ElFormItem label="Authentication" :error="fieldError('signIn.grant')">
          <ElRadioGroup v-model="access">
            <ElRadioButton value="token">Token or none</ElRadioButton>
            <ElRadioButton value="code">OAuth sign-in</ElRadioButton>
            <ElRadioButton value="client">OAuth client credentials</ElRadioButton>
          </ElRadioGroup>
        </ElFormItem>
        <ElFormItem v-if="access !== 'client'" label="Credential owner" :error="fieldError('per')">
          <ElRadioGroup v-model="per">
            <ElRadioButton value="team">shared by the team</ElRadioButton>
            <ElRadioButton value="person">per person</ElRadioButton>
            <ElRadioButton value="agent">per agent</ElRadioButton>
          </ElRadioGroup>
        </ElFormItem>
        <template v-else>
          <ElFormItem label="Client id" :error="fieldError('signIn.clientId')"><ElInput v-model="clientId" name="clientId" /></ElFormItem>
          <ElFormItem label="Secret that holds the client secret" :error="fieldError('signIn.clientSecret')"
            ><ElInput v-model="clientSecret" name="clientSecret" placeholder="fuel-client"
          /></ElFormItem>
        </template>
      </template>
      <ElFormItem v-if="wantsToken" :label="tokenLabel" :error="fieldError('token')">
        <ElInput v-model="tokenText" name="token" type="password" autocomplete="off" placeholder="encrypted, never shown again" />
      </ElFormItem>
      <details class="more" :open="openAdvanced">
        <summary>Advanced settings</summary>
        <ElFormItem v-if="!isRest" label="Sharing" :error="fieldError('sharing')">
          <ElSelect v-model="sharing" aria-label="Sharing">
            <ElOption value="auto" label="auto: per agent session where cheap" />
            <ElOption value="shared" label="shared by all agents" />
            <ElOption value="private" label="private: one per agent session" />
          </ElSelect>
        </ElFormItem>
        <template v-if="isCommand">
          <ElFormItem label="Memory limit (MiB)" :error="fieldError('memoryMiB')"
            ><ElInputNumber v-model="memoryMiB" :min="16" :step="64"
          /></ElFormItem>
          <ElFormItem label="Process limit" :error="fieldError('processes')"><ElInputNumber v-model="processes" :min="1" /></ElFormItem>
        </template>
        <template v-else>
          <ElFormItem label="Header for the raw token" :error="fieldError('secretHeader')"
            ><ElInput v-model="secretHeader" name="secretHeader" placeholder="X-Api-Key"
          /></ElFormItem>
          <ElFormItem label="Additional headers, Name: value, one per line" :error="fieldError('headers')"
            ><ElInput v-model="headerLines" name="headers" type="textarea" :rows="2"
          /></ElFormItem>
        </template>
        <ElFormItem label="Time limit of a call (seconds)" :error="fieldError('callSeconds')"
          ><ElInputNumber v-model="callSeconds" :min="1" :max="86400" :step="30"
        /></ElFormItem>
        <ElFormItem label="Result limit (KiB)" :error="fieldError('resultKiB')"
          ><ElInputNumber v-model="resultKiB" :min="1" :step="64"
        /></ElFormItem>
        <ElFormItem v-if="resultKiB" label="Larger results are" :error="fieldError('tooLarge')">
          <ElRadioGroup v-model="tooLarge">
            <ElRadioButton value="cut">cut</ElRadioButton>
            <ElRadioButton value="refuse">refused</ElRadioButton>
          </ElRadioGroup>
        </ElFormItem>
      </details>
      <ElCheckbox v-if="inTheOpen || plain" v-model="plain">These values are no secrets; keep them in the open</ElCheckbox>
      <ElCheckbox v-if="canForce" v-model="anyway">Save even though it cannot be reached now</ElCheckbox>
      <div class="actions">
        <span v-if="busy" class="soft" role="status">{{ progress }}</span>
        <ElButton @click="shown = false">Cancel</ElButton>
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
</style>
