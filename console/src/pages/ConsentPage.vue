<script setup lang="ts">
import { ElButton, ElRadio, ElRadioGroup } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import AgentDialog from '../parts/AgentDialog.vue'
import ErrorNote from '../parts/ErrorNote.vue'
import { useAction, useResource } from '../use/resource'

/** A program wants to speak for an agent: the person picks which, and sees what that means. */
const props = defineProps<{ id: string }>()
const route = useRoute()
const { data, error, load } = useResource(() => api.consentRequest(props.id))
const agent = ref('')
const adding = ref(false)
const { busy, failure, run } = useAction()
const none = computed(() => props.id === 'none')
const reasons: Record<string, string> = {
  invalid_client: 'The program is not known here. Have it register again, for instance by removing and adding the server in it.',
  invalid_request: 'The program names an address to come back to that it did not register, so nothing was sent there.',
}
const why = computed(() => reasons[String(route.query.why)] ?? 'The request of the program cannot be answered.')
const picked = computed(() => data.value?.agents.find((a) => a.name === agent.value))
onMounted(async () => {
  if (none.value) return
  await load()
  if (data.value?.agents.length === 1) agent.value = data.value.agents[0].name
})
async function decide(name: string) {
  const to = await run(() => api.decideConsent(props.id, name))
  if (to) window.location.assign(to.url)
}
async function added() {
  adding.value = false
  await load()
}
</script>

<template>
  <div class="pagehead">
    <h1>{{ data ? `${data.appName} wants to use your tools` : 'A program wants to use your tools' }}</h1>
  </div>
  <section v-if="none" class="sheet pad one">
    <p class="bad"><strong>Nothing was granted.</strong></p>
    <p>{{ why }}</p>
  </section>
  <ErrorNote v-else-if="error" :error="error" />
  <section v-else-if="data" class="sheet pad one">
    <ErrorNote v-if="failure" :error="failure" />
    <dl class="facts">
      <dt>Program</dt>
      <dd>
        <strong>{{ data.appName }}</strong>{{ ' ' }}
        <span class="soft">{{ data.document ? 'as its own site describes it' : 'nobody has checked that' }}</span>
      </dd>
      <dt>Redirects to</dt>
      <dd class="mono">{{ data.returns }}</dd>
      <dt>Requests</dt>
      <dd class="mono">{{ data.resource }}</dd>
    </dl>
    <template v-if="data.agents.length">
      <h2 class="ask">Which agent does it act as?</h2>
      <ElRadioGroup v-model="agent" class="agents">
        <ElRadio v-for="a in data.agents" :key="a.name" :value="a.name"
          >{{ a.name }}
          <span class="soft"
            >{{ a.kind }}, {{ a.owner ? 'yours' : 'the team’s' }}, reaches {{ a.tools.length }}
            {{ a.tools.length === 1 ? 'tool' : 'tools' }}</span
          ></ElRadio
        >
      </ElRadioGroup>
      <div v-if="picked" class="reach" role="status">
        <p v-if="!picked.tools.length" class="soft">It reaches nothing there yet; rules can admit tools later.</p>
        <template v-else>
          <p>As {{ picked.name }} it can use these tools now, and whatever rules admit later:</p>
          <div class="names">
            <code v-for="t in picked.tools" :key="t" :class="{ warn: picked.changes.includes(t) }">{{ t }}</code>
          </div>
          <p v-if="picked.changes.length" class="soft"><span class="warn">Those in amber</span> can change something.</p>
        </template>
      </div>
    </template>
    <p v-else>You have no agent it can act as.</p>
    <p><button class="plain" type="button" @click="adding = true">Add an agent for it</button></p>
    <div class="actions">
      <ElButton :disabled="busy" @click="decide('')">Decline</ElButton>
      <ElButton type="primary" :loading="busy" :disabled="!agent" @click="decide(agent)">Approve</ElButton>
    </div>
  </section>
  <AgentDialog v-if="adding" @close="adding = false" @done="added" />
</template>

<style scoped>
.one {
  max-width: 680px;
}
.ask {
  margin: 16px 0 4px;
}
.agents {
  display: flex;
  flex-direction: column;
  align-items: flex-start;
}
.reach {
  background: var(--paper);
  border: 1px solid var(--line);
  border-radius: 5px;
  padding: 2px 12px;
  margin-top: 8px;
}
.names {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  max-height: 160px;
  overflow: auto;
}
</style>
