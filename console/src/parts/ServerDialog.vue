<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** Registers a server, or gives one another address or token. */
const props = defineProps<{ server?: api.Server }>()
const emit = defineEmits<{ close: []; done: [server: api.Server] }>()
const name = ref(props.server?.name ?? '')
const url = ref(props.server?.url ?? '')
const tokenText = ref('')
const anyway = ref(false)
const { busy, failure, run } = useAction()
const shown = computed({ get: () => true, set: () => emit('close') })
const title = computed(() => (props.server ? `Change ${props.server.name}` : 'Register a server'))
const action = computed(() => (props.server ? 'Try and save' : 'Reach and register'))
const fieldError = (field: string) => (failure.value?.field === field ? failure.value.message : '')
const canForce = computed(() => failure.value?.finding !== undefined || anyway.value)

async function submit() {
  const token = tokenText.value.trim() === '' ? undefined : tokenText.value
  const done = await run(() =>
    props.server
      ? api.updateServer(props.server.name, { url: url.value === props.server.url ? undefined : url.value, token, anyway: anyway.value || undefined })
      : api.registerServer({ name: name.value, url: url.value, token, anyway: anyway.value || undefined }),
  )
  if (done) emit('done', done)
}
</script>

<template>
  <ElDialog v-model="shown" :title="title" width="520px" append-to-body>
    <ErrorNote v-if="failure && !failure.field" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem v-if="!server" label="Name" :error="fieldError('name')">
        <ElInput v-model="name" name="name" placeholder="sailings" autofocus />
      </ElFormItem>
      <ElFormItem label="Address of the MCP endpoint" :error="fieldError('url')">
        <ElInput v-model="url" name="url" placeholder="https://tools.example/mcp" />
      </ElFormItem>
      <ElFormItem :label="server?.secret ? `New bearer token (now given: ${server.secret})` : 'Bearer token, if it wants one'" :error="fieldError('token')">
        <ElInput v-model="tokenText" name="token" type="password" autocomplete="off" placeholder="kept encrypted, never shown again" />
      </ElFormItem>
      <ElCheckbox v-if="canForce" v-model="anyway">Do it anyway, although it cannot be reached now</ElCheckbox>
      <div class="actions">
        <span v-if="busy" class="soft" role="status">Connecting, negotiating, listing tools …</span>
        <ElButton @click="shown = false">Leave</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">{{ action }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>
