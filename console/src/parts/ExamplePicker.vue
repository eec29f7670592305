<script setup lang="ts">
import { ElButton, ElInput, ElMessage } from 'element-plus'
import { ref, watch } from 'vue'
import * as api from '../api'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** The examples of a server: one is chosen, removed, or made of the call that went well. */
const props = defineProps<{ server: string; keeps?: { server: string; tool: string; arguments?: unknown } }>()
const emit = defineEmits<{ chosen: [example: api.Example] }>()
const { may } = useSession()
const list = useResource(() => api.examples(props.server))
watch(
  () => props.server,
  () => void list.load(),
  { immediate: true },
)
const name = ref('')
const acting = useAction()
async function keep() {
  const call = props.keeps
  if (!call) return
  const kept = await acting.run(() => api.keepExample(call.server, name.value, { tool: call.tool, arguments: call.arguments }))
  if (!kept) return
  ElMessage.success(`kept; a checkup makes this call with --example ${kept.name}`)
  name.value = ''
  void list.load()
}
async function remove(e: api.Example) {
  await acting.run(() => api.removeExample(props.server, e.name))
  void list.load()
}
</script>

<template>
  <div v-if="list.data.value?.length" class="examples">
    <span class="soft">Examples:</span>
    <span v-for="e in list.data.value" :key="e.name" class="one">
      <button class="plain" type="button" :title="`${e.tool} ${JSON.stringify(e.arguments)}, kept by ${e.by}`" @click="emit('chosen', e)">
        {{ e.name }}
      </button>
      <button v-if="may('servers.keep')" class="plain soft" type="button" :aria-label="`Remove example ${e.name}`" @click="remove(e)">
        ×
      </button>
    </span>
  </div>
  <form v-if="keeps && may('servers.keep')" class="examples" @submit.prevent="keep">
    <ElInput v-model="name" size="small" class="name" placeholder="morning" aria-label="Name of the example" />
    <ElButton size="small" native-type="submit" :disabled="!name" :loading="acting.busy.value">Keep this call as an example</ElButton>
  </form>
  <ErrorNote v-if="list.error.value" :error="list.error.value" :retry="list.load" />
  <ErrorNote v-if="acting.failure.value" :error="acting.failure.value" />
</template>

<style scoped>
.examples {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  margin-bottom: 10px;
}
.name {
  flex: 0 0 150px;
}
</style>
