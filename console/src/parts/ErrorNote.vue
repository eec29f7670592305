<script setup lang="ts">
import type { ApiError } from '../api'

defineProps<{ error: ApiError; retry?: () => void }>()
</script>

<template>
  <div class="note" role="alert">
    <strong>{{ error.message }}</strong>
    <div v-if="error.hint" class="hint">{{ error.hint }}</div>
    <ul v-if="error.stages.length" class="stages">
      <li v-for="s in error.stages" :key="s.name">
        <span class="mono">{{ s.name }}</span> {{ s.ms.toFixed(1) }} ms:
        <span :class="s.ok ? 'good' : 'bad'">{{ s.ok ? 'ok' : 'failed' }}</span>
      </li>
    </ul>
    <button v-if="retry" class="plain" type="button" @click="retry">Try again</button>
  </div>
</template>

<style scoped>
.note {
  border-left: 3px solid var(--bad);
  background: color-mix(in srgb, var(--bad) 8%, var(--sheet));
  padding: 8px 12px;
  border-radius: 4px;
  margin: 0 0 12px;
}
.hint {
  margin-top: 2px;
}
.stages {
  margin: 6px 0 0;
  padding-left: 18px;
}
</style>
