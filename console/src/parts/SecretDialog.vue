<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput, ElInputNumber, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import * as api from '../api'
import { dateOnly } from '../use/format'
import { useAction } from '../use/resource'
import { useSession } from '../use/session'
import ErrorNote from './ErrorNote.vue'

/** Stores a secret, or gives one a new value. What can be told of a value is told before it is stored. */
const props = defineProps<{ secret?: api.Secret }>()
const emit = defineEmits<{ close: []; done: [] }>()
const { may } = useSession()
const name = ref('')
const kind = ref(props.secret?.kind ?? 'bearer')
const value = ref('')
const source = ref(props.secret?.source ?? '')
const outside = ref(Boolean(props.secret?.source))
const server = ref('')
const servers = ref<string[]>([])
const overlap = ref(0)
const anyway = ref(false)
const seen = ref<api.Inspection>()
const { busy, failure, run, fieldError } = useAction()
const open = computed({ get: () => true, set: () => emit('close') })
const isKey = computed(() => kind.value === 'private-key')
const kinds = [
  ['bearer', 'bearer token'],
  ['value', 'value of a header or a query parameter'],
  ['basic', 'user name and password (basic)'],
  ['environment', 'variable or file of a local process'],
  ['client-secret', 'secret of an OAuth client'],
  ['private-key', 'private key (PEM)'],
]
onMounted(async () => {
  servers.value = (await api.servers().catch(() => [])).map((s) => s.name)
})
let timer = 0
watch([value, kind], () => {
  window.clearTimeout(timer)
  seen.value = undefined
  if (value.value.trim())
    timer = window.setTimeout(async () => (seen.value = await api.inspectSecret(kind.value, value.value).catch(() => undefined)), 300)
})
const told = computed(() => {
  const s = seen.value
  if (!s || s.problem) return []
  const f = s.facts
  return [
    ...(f.notes ?? []).map((n) => `Noticed: ${n}.`),
    ...(f.form === 'jwt'
      ? [
          `A JSON Web Token, read but not verified: issuer ${f.issuer || '–'}, audience ${f.audience?.join(' ') || '–'}, scopes ${f.scopes?.join(' ') || '–'}.`,
        ]
      : []),
    ...(s.ends ? [`It ends on ${dateOnly(s.ends)}.`] : []),
    ...(s.warning ? [s.warning[0].toUpperCase() + s.warning.slice(1) + '.'] : []),
  ]
})
async function submit() {
  const given = outside.value ? { source: source.value } : { value: value.value }
  const done = await run(() =>
    props.secret
      ? api.rotateSecret(props.secret.name, { ...given, anyway: anyway.value || undefined, overlapHours: overlap.value || undefined })
      : api.addSecret({ name: name.value, kind: kind.value, server: server.value || undefined, ...given }),
  )
  if (done) emit('done')
}
</script>

<template>
  <ElDialog v-model="open" :title="secret ? `New value for ${secret.name}` : 'Store a secret'" width="520px" append-to-body>
    <ErrorNote v-if="failure && !['name', 'value', 'source', 'kind'].includes(failure.field)" :error="failure" />
    <ElForm label-position="top" @submit.prevent="submit">
      <template v-if="!secret">
        <ElFormItem label="Name" :error="fieldError('name')"
          ><ElInput v-model="name" name="name" placeholder="sailings-token" autofocus
        /></ElFormItem>
        <ElFormItem label="Kind" :error="fieldError('kind')">
          <ElSelect v-model="kind" aria-label="Kind"><ElOption v-for="k in kinds" :key="k[0]" :value="k[0]" :label="k[1]" /></ElSelect>
        </ElFormItem>
      </template>
      <ElFormItem
        v-if="!outside"
        :label="kind === 'basic' ? 'User name, colon, password' : 'Value'"
        :error="fieldError('value') || (seen?.problem ?? '')"
      >
        <ElInput
          v-model="value"
          name="value"
          :type="isKey ? 'textarea' : 'password'"
          :rows="4"
          autocomplete="off"
          placeholder="encrypted, never shown again"
        />
      </ElFormItem>
      <ElFormItem v-else label="Source" :error="fieldError('source')">
        <ElInput v-model="source" name="source" class="mono" placeholder="env NAME, file /path or command LINE" />
      </ElFormItem>
      <ul v-if="told.length" class="told" role="status">
        <li v-for="t in told" :key="t">{{ t }}</li>
      </ul>
      <ElCheckbox v-if="may('secrets.source')" v-model="outside">The value is kept elsewhere and read on use</ElCheckbox>
      <ElFormItem v-if="!secret" label="Test it on a server first">
        <ElSelect v-model="server" clearable placeholder="no test" aria-label="Server to test it on"
          ><ElOption v-for="s in servers" :key="s" :value="s" :label="s"
        /></ElSelect>
      </ElFormItem>
      <template v-else>
        <p class="soft">
          The new value is tried on {{ secret.usedBy.join(', ') || 'no server, since none is given it' }} before it is stored.
        </p>
        <ElFormItem label="Hours to keep the previous value as a fallback"
          ><ElInputNumber v-model="overlap" :min="0" :max="168"
        /></ElFormItem>
        <ElCheckbox v-if="failure?.finding || anyway" v-model="anyway">Save anyway</ElCheckbox>
      </template>
      <div class="actions">
        <span v-if="busy" class="soft" role="status">Testing …</span>
        <ElButton @click="open = false">Cancel</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">{{ secret ? 'Try and store' : 'Store' }}</ElButton>
      </div>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.told {
  margin: 0 0 12px;
  padding: 8px 12px 8px 26px;
  background: color-mix(in srgb, var(--accent) 8%, var(--sheet));
  border-radius: 4px;
}
</style>
