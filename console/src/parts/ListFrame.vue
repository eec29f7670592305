<script setup lang="ts">
import { ElSkeleton } from 'element-plus'
import { computed } from 'vue'
import type { ApiError } from '../api'
import ErrorNote from './ErrorNote.vue'

/** A list in its four states: loading, failed, empty, and there. */
const props = defineProps<{
  loading: boolean
  error?: ApiError
  total?: number
  shown: number
  retry: () => void
}>()
const first = computed(() => props.total === undefined && !props.error)
const empty = computed(() => props.total === 0)
const filtered = computed(() => (props.total ?? 0) > 0 && props.shown === 0)
</script>

<template>
  <ErrorNote v-if="error" :error="error" :retry="retry" />
  <div v-if="first" class="sheet pad" aria-busy="true"><ElSkeleton :rows="5" animated /></div>
  <div v-else-if="empty" class="sheet nothing"><slot name="empty" /></div>
  <div v-else-if="filtered" class="sheet nothing">Nothing matches the filter.</div>
  <div v-else-if="total !== undefined" class="sheet"><slot /></div>
</template>

<style scoped>
.nothing {
  padding: 36px 20px;
  text-align: center;
  color: var(--ink-soft);
}
</style>
