<script setup lang="ts">
import { ElButton, ElMessage } from 'element-plus'
import { onMounted } from 'vue'
import * as api from '../api'
import { confirmed } from '../use/confirm'
import { useAction, useResource } from '../use/resource'
import ErrorNote from './ErrorNote.vue'

/** What keeps the state safe: the keys of the locker, and copies. */
const locker = useResource(() => api.locker())
const rotation = useAction()
onMounted(locker.load)
async function rotate() {
  const text =
    'A new key is put in force and every secret is wrapped with it. The key before stays in the key set until the next rotation, so that backups made before can be opened.'
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
      <ElButton :loading="rotation.busy.value" @click="rotate">Rotate key</ElButton>
    </div>
    <div>
      <h2>Backup</h2>
      <p>
        A copy of the whole state, while the service goes on. Secrets stay encrypted in it: keep the key set too, which is not in it. To
        restore, start the service with the copy as its database.
      </p>
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
