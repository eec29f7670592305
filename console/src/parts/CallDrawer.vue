<script setup lang="ts">
import { ElDrawer, ElSkeleton } from 'element-plus'
import { computed, watch } from 'vue'
import * as api from '../api'
import { bytes, fullMoment, pretty, took } from '../use/format'
import { useResource } from '../use/resource'
import ErrorNote from './ErrorNote.vue'
import StateMark from './StateMark.vue'

/** One call in full. */
const props = defineProps<{ id: string }>()
const emit = defineEmits<{ close: [] }>()
const { data: call, error, load } = useResource(() => api.call(props.id))
watch(
  () => props.id,
  (id) => id && load(),
  { immediate: true },
)
const open = computed({ get: () => props.id !== '', set: () => emit('close') })
const current = computed(() => (call.value?.id === props.id ? call.value : undefined))
</script>

<template>
  <ElDrawer v-model="open" size="560px" title="Call" append-to-body>
    <ErrorNote v-if="error" :error="error" :retry="load" />
    <ElSkeleton v-else-if="!current" :rows="8" animated />
    <template v-else>
      <dl class="facts">
        <dt>time</dt>
        <dd>{{ fullMoment(current.at) }}</dd>
        <dt>agent</dt>
        <dd>
          <RouterLink :to="`/agents/${current.agent}`">{{ current.agent }}</RouterLink> of {{ current.person || 'the team' }}
        </dd>
        <dt>server</dt>
        <dd>
          <RouterLink v-if="current.server" :to="`/servers/${current.server}`">{{ current.server }}</RouterLink><span v-else>none</span>
        </dd>
        <dt>tool</dt>
        <dd class="mono">{{ current.tool }}</dd>
        <dt>decision</dt>
        <dd>
          <StateMark :state="current.decision" />{{ ' ' }}
          <span v-if="current.rule" class="soft"
            >by rule
            <RouterLink :to="{ path: '/rules', query: { rule: current.ruleName || current.rule } }">{{
              current.ruleName || current.rule
            }}</RouterLink></span
          ><span v-else class="soft">no rule admits it</span>
        </dd>
        <template v-if="current.control">
          <dt>control</dt>
          <dd>
            <div v-if="current.control.narrowed?.length">narrowed by {{ current.control.narrowed.join(', ') }}</div>
            <div v-if="current.control.held">
              held by {{ current.control.held
              }}<span v-if="current.control.by"
                >, decided by {{ current.control.by }}{{ current.control.asked ? ', who was asked through the assistant' : '' }}</span
              ><span v-if="current.control.how"> ({{ current.control.how }})</span
              ><span v-if="current.control.waitedMs"> after {{ took(current.control.waitedMs * 1000) }}</span
              ><span v-if="current.control.word">: {{ current.control.word }}</span>
            </div>
            <div v-if="current.control.hidden">{{ current.control.hidden }} fields of the result hidden</div>
          </dd>
        </template>
        <dt>outcome</dt>
        <dd><StateMark :state="current.outcome" /></dd>
        <template v-if="current.error"
          ><dt>error</dt>
          <dd>{{ current.error }}</dd></template
        >
        <dt>took</dt>
        <dd>{{ took(current.us) }}</dd>
        <dt>sizes</dt>
        <dd>{{ bytes(current.bytesIn) }} in, {{ bytes(current.bytesOut) }} out</dd>
        <dt>id</dt>
        <dd class="mono">{{ current.id }}</dd>
      </dl>
      <h2>Arguments</h2>
      <pre class="body" tabindex="0">{{ current.arguments ? pretty(current.arguments) : 'none' }}</pre>
      <h2>Result</h2>
      <pre class="body" tabindex="0">{{ current.result ? pretty(current.result) : 'none' }}</pre>
      <p v-if="current.cut" class="soft">Arguments or result are longer than what is kept.</p>
    </template>
  </ElDrawer>
</template>

<style scoped>
h2 {
  margin-top: 16px;
}
</style>
