<script setup lang="ts">
import { ElButton } from 'element-plus'
import type { Found } from '../api'

/** A cause, with its proof, who has to act, and what helps. */
defineProps<{ found: Found; busy?: boolean }>()
defineEmits<{ apply: [] }>()
</script>

<template>
  <div class="finding" role="status">
    <strong>{{ found.title }}</strong>
    <div>Fix: {{ found.remedy }}</div>
    <div class="soft">
      Who can fix it: {{ found.who }} · cause <code>{{ found.cause }}</code>
    </div>
    <ul v-if="found.evidence.length" class="seen">
      <li v-for="e in found.evidence" :key="e">{{ e }}</li>
    </ul>
    <div v-if="found.follows.length" class="soft">From that follows: {{ found.follows.join('; ') }}.</div>
    <ElButton v-if="found.fix" size="small" type="primary" class="apply" :loading="busy" @click="$emit('apply')">
      Apply: {{ found.fix.field }} {{ found.fix.value }}
    </ElButton>
  </div>
</template>

<style scoped>
.seen {
  margin: 6px 0;
  padding-left: 18px;
  color: var(--ink-soft);
  font-size: 12px;
  overflow-wrap: anywhere;
}
.apply {
  margin-top: 6px;
}
</style>
