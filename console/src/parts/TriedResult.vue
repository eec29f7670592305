<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, ref, watch } from 'vue'
import type { Tried } from '../api'

/** What was sent, what came back, and when. */
const props = defineProps<{ tried: Tried }>()
const emit = defineEmits<{ answer: [answers: unknown] }>()

interface Part {
  type: string
  text?: string
  data?: string
  mimeType?: string
  uri?: string
  name?: string
}
const result = computed(() => (props.tried.result ?? {}) as { content?: Part[]; structuredContent?: unknown })
const pretty = (v: unknown) => JSON.stringify(v, null, 2)
const source = (p: Part) => `data:${p.mimeType};base64,${p.data}`
const answers = ref('')
watch(
  () => props.tried.asks,
  () => (answers.value = pretty(props.tried.draft ?? {})),
  { immediate: true },
)
const readable = computed(() => {
  try {
    return JSON.parse(answers.value) as unknown
  } catch {
    return undefined
  }
})
</script>

<template>
  <p>
    <strong :class="tried.ok ? 'good' : 'bad'">{{
      tried.ok ? 'It answered' : tried.asks ? 'It asks something first' : 'It did not go well'
    }}</strong>
    <span class="soft"> after {{ tried.ms.toFixed(1) }} ms</span>
  </p>
  <p v-if="tried.unfit" class="warn">The arguments do not fit the schema: {{ tried.unfit }}</p>
  <p v-if="tried.output" class="warn">The result does not fit the output schema: {{ tried.output }}</p>
  <p v-if="tried.error" class="bad">
    {{ tried.error }}<span v-if="tried.code" class="soft"> ({{ tried.code }})</span>
  </p>
  <ol v-if="tried.events.length" class="events">
    <li v-for="(e, i) in tried.events" :key="i">
      <span class="soft">{{ e.ms.toFixed(1) }} ms</span> <span class="mono">{{ e.method }}</span> {{ JSON.stringify(e.params) }}
    </li>
  </ol>
  <template v-for="(p, i) in result.content ?? []" :key="i">
    <pre v-if="p.type === 'text'" class="body" tabindex="0">{{ p.text }}</pre>
    <img v-else-if="p.type === 'image'" :src="source(p)" alt="Image of the result" class="shown" />
    <audio v-else-if="p.type === 'audio'" :src="source(p)" controls />
    <p v-else-if="p.uri" class="mono">{{ p.name }} {{ p.uri }}</p>
    <pre v-else class="body" tabindex="0">{{ pretty(p) }}</pre>
  </template>
  <template v-if="result.structuredContent">
    <h2 class="gap">Structured</h2>
    <pre class="body" tabindex="0">{{ pretty(result.structuredContent) }}</pre>
  </template>
  <template v-if="tried.asks">
    <pre class="body" tabindex="0">{{ pretty(tried.asks) }}</pre>
    <p class="soft">Answer in the place of the assistant, its model and its user; what is there is only a beginning.</p>
    <ElInput v-model="answers" type="textarea" :rows="6" aria-label="Answers, as JSON" />
    <ElButton class="gap" type="primary" :disabled="readable === undefined" @click="emit('answer', readable)">Answer</ElButton>
  </template>
  <details class="gap">
    <summary>What was sent</summary>
    <pre class="body" tabindex="0">{{ pretty(tried.sent) }}</pre>
    <p class="soft">
      The same on the command line: <code>{{ tried.command }}</code>
    </p>
  </details>
</template>

<style scoped>
.events {
  margin: 0 0 8px;
  padding-left: 18px;
  font-size: 12px;
  overflow-wrap: anywhere;
}
.shown {
  max-width: 100%;
}
.gap {
  margin-top: 8px;
}
</style>
