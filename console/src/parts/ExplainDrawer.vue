<script setup lang="ts">
import { ElDrawer, ElSkeleton, ElInput, ElButton } from 'element-plus'
import { computed, ref, watch } from 'vue'
import * as api from '../api'
import { pretty } from '../use/format'
import { useResource } from '../use/resource'
import ErrorNote from './ErrorNote.vue'
import StateMark from './StateMark.vue'

/** Why an agent may use a tool, or may not: by which rule, which almost decided, and what would change it. */
const props = defineProps<{ about: { agent: string; server: string; tool: string } }>()
const emit = defineEmits<{ close: []; rule: [effect: 'admit' | 'refuse'] }>()
const args = ref('')
const broken = ref('')
const { data, error, load } = useResource(() => {
  let given: unknown
  if (args.value.trim()) given = JSON.parse(args.value)
  return api.explain({ ...props.about, arguments: given })
})
watch(() => props.about, load, { immediate: true })
const open = computed({ get: () => true, set: () => emit('close') })
const parts: Record<string, string> = {
  decides: 'decides',
  agrees: 'says the same',
  narrows: 'narrows',
  overruled: 'overruled',
  almost: 'almost',
}
function again() {
  broken.value = ''
  try {
    if (args.value.trim()) JSON.parse(args.value)
  } catch (err) {
    broken.value = `This is no JSON: ${(err as Error).message}`
    return
  }
  void load()
}
</script>

<template>
  <ElDrawer v-model="open" size="600px" :title="`${about.tool} of ${about.server} for ${about.agent}`" append-to-body>
    <ErrorNote v-if="error" :error="error" :retry="load" />
    <ElSkeleton v-else-if="!data" :rows="8" animated />
    <template v-else>
      <p class="answer"><StateMark :state="data.effect" /> {{ data.why }}</p>
      <template v-if="data.input">
        <h2>Arguments as the agent is shown them</h2>
        <pre class="body" tabindex="0">{{ pretty(JSON.stringify(data.input)) }}</pre>
      </template>
      <p v-if="data.pinned?.length">
        Filled in by Bouncer: <code>{{ data.pinned.join(', ') }}</code>
      </p>
      <p v-if="data.hidden?.length">
        Taken out of results: <code>{{ data.hidden.join(', ') }}</code>
      </p>
      <h2>With these arguments</h2>
      <ElInput
        v-model="args"
        type="textarea"
        :rows="3"
        class="mono"
        placeholder='{"litres": 200}'
        spellcheck="false"
        aria-label="Arguments of a call, as JSON"
      />
      <p v-if="broken" class="bad">{{ broken }}</p>
      <p><ElButton size="small" @click="again">Explain the call</ElButton></p>
      <template v-if="data.rules.length">
        <h2>Rules</h2>
        <table class="list">
          <colgroup>
            <col />
            <col style="width: 84px" />
            <col style="width: 96px" />
            <col style="width: 44%" />
          </colgroup>
          <thead>
            <tr>
              <th>Rule</th>
              <th>Effect</th>
              <th>Part</th>
              <th>Why not</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in data.rules" :key="r.rule">
              <td :title="r.text">
                <RouterLink :to="{ path: '/rules', query: { rule: r.name } }">{{ r.name }}</RouterLink>
              </td>
              <td><StateMark :state="r.effect" /></td>
              <td :class="{ soft: r.part === 'almost' }">{{ parts[r.part] }}</td>
              <td class="soft">{{ (r.misses ?? []).join('; ') }}</td>
            </tr>
          </tbody>
        </table>
      </template>
      <template v-if="data.change.length">
        <h2>What would change it</h2>
        <ul>
          <li v-for="c in data.change" :key="c">{{ c }}</li>
        </ul>
        <p class="soft">Ask {{ data.contacts }}.</p>
      </template>
      <slot />
    </template>
  </ElDrawer>
</template>

<style scoped>
h2 {
  margin-top: 16px;
}
.answer {
  font-size: 14px;
  margin-top: 0;
}
li {
  overflow-wrap: anywhere;
}
</style>
