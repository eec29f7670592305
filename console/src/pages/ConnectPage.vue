<script setup lang="ts">
import { ElButton, ElForm, ElFormItem, ElInput } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import * as api from '../api'
import ErrorNote from '../parts/ErrorNote.vue'
import { aboutField, useAction, useResource } from '../use/resource'
import { useSession } from '../use/session'

/** Where agents send their people when a credential is missing: one button, or one field. */
const props = defineProps<{ server: string }>()
const route = useRoute()
const { may } = useSession()
const { data, error, load } = useResource(() => api.server(props.server))
const problem = ref<api.SignInProblem>()
const token = ref('')
const stored = ref(false)
const action = useAction()
const agent = computed(() => (typeof route.query.agent === 'string' ? route.query.agent : ''))
const team = computed(() => route.query.for === 'team')
const whom = computed(() => (agent.value ? `agent ${agent.value}` : team.value ? 'the whole team' : 'you and your agents'))
const done = computed(() => stored.value || route.query.done === '1')
async function see() {
  void load()
  problem.value = undefined
  const id = route.query.problem
  if (typeof id === 'string') problem.value = await api.signInProblem(id).catch(() => undefined)
}
onMounted(see)
watch(() => route.fullPath, see)
async function connect() {
  const to = await action.run(() =>
    api.beginSignIn({ server: props.server, agent: agent.value || undefined, team: team.value || undefined }),
  )
  if (to) window.location.assign(to.url)
}
async function store() {
  const ok = await action.run<unknown>(() =>
    team.value
      ? api.updateServer(props.server, { token: token.value })
      : api.giveOwn(props.server, { agent: agent.value || undefined, value: token.value }),
  )
  if (ok) stored.value = true
}
</script>

<template>
  <div class="pagehead">
    <h1>Connect to {{ server }}</h1>
  </div>
  <ErrorNote v-if="error" :error="error" :retry="load" />
  <section v-if="data" class="sheet pad one">
    <template v-if="done && !problem">
      <p class="good"><strong>● Connected.</strong></p>
      <p>{{ server }} is reached with this from the next call on. If an assistant was waiting, have it repeat the call.</p>
      <p>
        <RouterLink :to="`/servers/${server}`">See {{ server }}</RouterLink> · <RouterLink to="/sign-ins">All sign-ins</RouterLink>
      </p>
    </template>
    <template v-else>
      <ErrorNote v-if="action.failure.value && !action.failure.value.field" :error="action.failure.value" />
      <ErrorNote v-else-if="problem" :error="new api.ApiError(0, problem.what, problem.hint)" />
      <p v-if="!may('sign-ins.make')">An auditor has no credentials of their own. Ask the agent’s owner to open this page.</p>
      <template v-else-if="data.signIn?.grant === 'code'">
        <p>
          {{ server }} wants a sign-in. You are sent there, and come back here. Bouncer keeps the tokens encrypted and fresh, and uses them
          for <strong>{{ whom }}</strong> only.
        </p>
        <p v-if="data.redirect && data.signIn.clientId" class="soft">
          The client id {{ data.signIn.clientId }} has to have this redirect address there: <code>{{ data.redirect }}</code>
        </p>
        <ElButton type="primary" size="large" :loading="action.busy.value" @click="connect">{{
          problem ? 'Try again' : `Sign in at ${server}`
        }}</ElButton>
      </template>
      <p v-else-if="data.signIn">
        Nobody signs in here:
        {{
          data.signIn.grant !== 'assertion'
            ? 'Bouncer has access of its own to this server.'
            : 'the identity provider vouches for you when you sign in to Bouncer through it.'
        }}
      </p>
      <ElForm v-else label-position="top" @submit.prevent="store">
        <p>
          The token is tried first, kept encrypted, and used for <strong>{{ whom }}</strong> only.
        </p>
        <ElFormItem label="Token for this server" :error="action.failure.value?.field ? aboutField(action.failure.value) : ''">
          <ElInput v-model="token" name="token" type="password" autocomplete="off" placeholder="encrypted, never shown again" />
        </ElFormItem>
        <ElButton type="primary" native-type="submit" :loading="action.busy.value" :disabled="!token.trim()">Test and save</ElButton>
      </ElForm>
    </template>
  </section>
</template>

<style scoped>
.one {
  max-width: 560px;
}
</style>
