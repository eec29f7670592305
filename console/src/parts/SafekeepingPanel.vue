<script setup lang="ts">
import { ElButton, ElMessage } from 'element-plus'
import { onMounted } from 'vue'
import * as api from '../api'
import { confirmed } from '../use/confirm'
import { ago, fullMoment } from '../use/format'
import { useAction, useResource } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** What keeps the state safe: the keys of the locker, and copies. */
const locker = useResource(() => api.locker())
const rotation = useAction()
const copies = useResource(() => api.copies())
onMounted(() => {
  void locker.load()
  void copies.load()
})
const making = useAction()
async function make() {
  const done = await making.run(() => api.makeCopy())
  if (done) ElMessage.success('A copy was made, and can be opened')
  void copies.load()
}
async function rotate() {
  const next = locker.data.value?.next
  const text = next
    ? `The key ${next} is put in force at all nodes that know it, and every secret is wrapped with it. Keep the keys before in the key sets: the first for as long as the cluster is there, the others as long as backups that need them.`
    : 'A new key is put in force and every secret is wrapped with it. The key before stays in the key set until the next rotation, so that backups made before can be opened.'
  if (!(await confirmed('Rotate the encryption key?', text, 'Rotate'))) return
  const done = await rotation.run(() => api.rotateKeys())
  if (done) ElMessage.success(`${done.rewrapped} values are wrapped with the new key ${done.keys.at(-1)}`)
  void locker.load()
}
</script>

<template>
  <section class="sheet pad keeping">
    <div>
      <h2>Encryption keys</h2>
      <ErrorNote v-if="locker.error.value" :error="locker.error.value" :retry="locker.load" />
      <ErrorNote v-if="rotation.failure.value" :error="rotation.failure.value" />
      <p v-if="locker.data.value">
        In force: <code>{{ locker.data.value.keys.at(-1) }}</code><span v-if="locker.data.value.keys.length > 1" class="soft"
          >; still there for older backups: {{ locker.data.value.keys.slice(0, -1).join(', ') }}</span
        >
      </p>
      <p v-if="locker.data.value?.problem" class="bad" role="alert">{{ locker.data.value.problem }}</p>
      <p v-if="locker.data.value?.next">
        Known here, and not in force yet: <code>{{ locker.data.value.next }}</code>
      </p>
      <p v-else-if="locker.data.value?.shared" class="soft">
        The nodes of the cluster all have the same keys. Make a new one with <code>bouncer locker new</code> and add it at the end of the
        key set of each node; then it can be put in force here.
      </p>
      <ElButton
        v-if="locker.data.value && (!locker.data.value.shared || locker.data.value.next)"
        :loading="rotation.busy.value"
        @click="rotate"
        >Rotate key</ElButton
      >
      <ElButton v-else-if="locker.data.value" @click="locker.load">Look again</ElButton>
    </div>
    <div>
      <h2>Backup</h2>
      <p>
        A copy of the whole state, while the service goes on. Secrets stay encrypted in it: keep the key set too, which is not in it.
        <code>bouncer restore FILE</code> puts it in place.
      </p>
      <ErrorNote v-if="copies.error.value" :error="copies.error.value" :retry="copies.load" />
      <ErrorNote v-if="making.failure.value" :error="making.failure.value" />
      <p v-if="copies.data.value && !copies.data.value.dir" class="soft">
        None are made by themselves: name a directory for them with the setting <code>backup-dir</code>.
      </p>
      <template v-else-if="copies.data.value">
        <p v-if="copies.data.value.problem" class="bad" role="alert">The last try failed: {{ copies.data.value.problem }}</p>
        <p>
          {{ copies.data.value.copies.length }} in <code>{{ copies.data.value.dir }}</code><span
            v-if="copies.data.value.last"
            class="soft"
            :title="fullMoment(copies.data.value.last)"
            >, the last {{ ago(copies.data.value.last) }}; each was opened to be sure of it</span
          >
        </p>
        <ElButton :loading="making.busy.value" @click="make">Make one now</ElButton>
      </template>
      <a class="el-button" :href="api.backupAddress" download>Download backup</a>
    </div>
  </section>
</template>

<style scoped>
.keeping {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 24px;
  margin-bottom: 18px;
}
p {
  margin: 0 0 10px;
}
h2 {
  margin: 0 0 8px;
}
a {
  text-decoration: none;
}
</style>
