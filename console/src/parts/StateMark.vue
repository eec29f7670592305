<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ state: string }>()

// Shape and word tell the state as well as colour does.
const looks: Record<string, { shape: string; tone: string }> = {
  ready: { shape: '●', tone: 'good' },
  ok: { shape: '●', tone: 'good' },
  valid: { shape: '●', tone: 'good' },
  active: { shape: '●', tone: 'good' },
  admit: { shape: '●', tone: 'good' },
  open: { shape: '◌', tone: 'soft' },
  ended: { shape: '■', tone: 'soft' },
  used: { shape: '●', tone: 'good' },
  taken: { shape: '●', tone: 'good' },
  waiting: { shape: '▲', tone: 'warn' },
  needed: { shape: '▲', tone: 'warn' },
  'in force': { shape: '●', tone: 'good' },
  connecting: { shape: '◌', tone: 'soft' },
  paused: { shape: '❙❙', tone: 'soft' },
  expired: { shape: '◌', tone: 'soft' },
  cancelled: { shape: '◌', tone: 'soft' },
  'tool-error': { shape: '▲', tone: 'warn' },
  refused: { shape: '■', tone: 'warn' },
  'no-credential': { shape: '▲', tone: 'warn' },
  refuse: { shape: '■', tone: 'warn' },
  hold: { shape: '◐', tone: 'warn' },
  admitted: { shape: '●', tone: 'good' },
  revoked: { shape: '■', tone: 'warn' },
}
const look = computed(() => looks[props.state] ?? { shape: '◆', tone: 'bad' })
</script>

<template>
  <span :class="['mark', look.tone]"
    ><span aria-hidden="true">{{ look.shape }}</span> {{ state }}</span
  >
</template>

<style scoped>
.mark {
  white-space: nowrap;
}
</style>
