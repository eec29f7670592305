<script setup lang="ts">
import { ElButton, ElInput, ElMessage } from 'element-plus'
import { ref } from 'vue'
import * as api from '../api'
import { useAction } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** Keeps a call that went well as an example. */
const props = defineProps<{ server: string; tool: string; arguments?: unknown }>()
const emit = defineEmits<{ kept: [] }>()
const name = ref('')
const acting = useAction()
async function keep() {
  const kept = await acting.run(() => api.keepExample(props.server, name.value, { tool: props.tool, arguments: props.arguments }))
  if (!kept) return
  ElMessage.success(`kept; bouncer checkup ${props.server} --example ${kept.name} makes this call`)
  name.value = ''
  emit('kept')
}
</script>

<template>
  <form class="keep" @submit.prevent="keep">
    <ElInput v-model="name" size="small" class="name" placeholder="morning" aria-label="Name of the example" />
    <ElButton size="small" native-type="submit" :disabled="!name" :loading="acting.busy.value">Keep this call as an example</ElButton>
  </form>
  <ErrorNote v-if="acting.failure.value" :error="acting.failure.value" />
</template>

<style scoped>
.keep {
  display: flex;
  gap: 8px;
  margin-top: 12px;
}
.name {
  flex: 0 0 150px;
}
</style>
