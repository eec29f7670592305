<script setup lang="ts">
import { watch } from 'vue'
import * as api from '../api'
import { useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** The examples of a server: one is chosen, or removed. */
const props = defineProps<{ server: string }>()
const emit = defineEmits<{ chosen: [example: api.Example] }>()
const { may } = useSession()
const list = useResource(() => api.examples(props.server))
watch(
  () => props.server,
  () => void list.load(),
  { immediate: true },
)
defineExpose({ load: list.load })
const acting = useAction()
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
.one {
  display: flex;
  gap: 4px;
}
</style>
