<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElRadioButton, ElRadioGroup } from 'element-plus'
import { computed, ref } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** Registers a server, or gives one another address or token. */
const props = defineProps<{ server?: api.Server }>()
const emit = defineEmits<{ close: []; done: [server: api.Server] }>()
const kind = ref<'address' | 'command'>(props.server?.command ? 'command' : 'address')
const name = ref(props.server?.name ?? '')
const url = ref(props.server?.url ?? '')
const command = ref('')
const argLines = ref('')
const dir = ref('')
const envLines = ref('')
const secretEnv = ref('')
const tokenText = ref('')
const anyway = ref(false)
const { busy, failure, run } = useAction()
const shown = computed({ get: () => true, set: () => emit('close') })
const title = computed(() => (props.server ? `Change ${props.server.name}` : 'Register a server'))
const action = computed(() => (props.server ? 'Try and save' : 'Reach and register'))
const isCommand = computed(() => kind.value === 'command')
const progress = computed(() => (isCommand.value ? 'Starting, negotiating, listing tools …' : 'Connecting, negotiating, listing tools …'))
const wantsToken = computed(() => !isCommand.value || secretEnv.value !== '' || Boolean(props.server?.secretEnv))
const tokenLabel = computed(() => {
  if (props.server?.secret) return `New value (now given: ${props.server.secret})`
  return isCommand.value ? `Value of ${secretEnv.value}` : 'Bearer token, if it wants one'
})
const fieldError = (field: string) => (failure.value?.field === field ? failure.value.message : '')
const canForce = computed(() => failure.value?.finding !== undefined || anyway.value)
const lines = (text: string) => text.split('\n').filter((l) => l.trim() !== '')

function described(): api.Registration {
  if (!isCommand.value) return { name: name.value, url: url.value }
  return { name: name.value, command: command.value, args: lines(argLines.value), dir: dir.value, env: lines(envLines.value), secretEnv: secretEnv.value }
}
async function submit() {
  const token = tokenText.value.trim() === '' || !wantsToken.value ? undefined : tokenText.value
  const force = anyway.value || undefined
  const done = await run(() =>
    props.server
      ? api.updateServer(props.server.name, { url: url.value === props.server.url ? undefined : url.value, token, anyway: force })
      : api.registerServer({ ...described(), token, anyway: force }),
  )
  if (done) emit('done', done)
}
</script>

<template>
  <ElDialog v-model="shown" :title="title" width="520px" top="5vh" append-to-body>
    <ErrorNote v-if="failure && !failure.field" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem v-if="!server" label="It is">
        <ElRadioGroup v-model="kind">
          <ElRadioButton value="address">at an address</ElRadioButton>
          <ElRadioButton value="command">a command</ElRadioButton>
        </ElRadioGroup>
      </ElFormItem>
      <ElFormItem v-if="!server" label="Name" :error="fieldError('name')">
        <ElInput v-model="name" name="name" placeholder="sailings" autofocus />
      </ElFormItem>
      <ElFormItem v-if="!isCommand" label="Address of the MCP endpoint" :error="fieldError('url')">
        <ElInput v-model="url" name="url" placeholder="https://tools.example/mcp" />
      </ElFormItem>
      <template v-else-if="!server">
        <ElFormItem label="Command, as the machine that runs Bouncer knows it" :error="fieldError('command')">
          <ElInput v-model="command" name="command" placeholder="/opt/skerrow/berths" />
        </ElFormItem>
        <ElFormItem label="Arguments, one a line" :error="fieldError('args')"><ElInput v-model="argLines" name="args" type="textarea" :rows="2" /></ElFormItem>
        <ElFormItem label="Working directory, if it matters" :error="fieldError('dir')"><ElInput v-model="dir" name="dir" /></ElFormItem>
        <ElFormItem label="Variables, NAME=value, one a line" :error="fieldError('env')"><ElInput v-model="envLines" name="env" type="textarea" :rows="2" /></ElFormItem>
        <ElFormItem label="Variable that carries a secret, if there is one" :error="fieldError('secretEnv')"><ElInput v-model="secretEnv" name="secretEnv" placeholder="BERTHS_KEY" /></ElFormItem>
      </template>
      <ElFormItem v-if="wantsToken" :label="tokenLabel" :error="fieldError('token')">
        <ElInput v-model="tokenText" name="token" type="password" autocomplete="off" placeholder="kept encrypted, never shown again" />
      </ElFormItem>
      <ElCheckbox v-if="canForce" v-model="anyway">Do it anyway, although it cannot be reached now</ElCheckbox>
      <div class="actions">
        <span v-if="busy" class="soft" role="status">{{ progress }}</span>
        <ElButton @click="shown = false">Leave</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">{{ action }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
