<script setup lang="ts">
import { computed } from 'vue'
import type { ServerHistory } from '../api'
import { fullMoment } from '../use/format'

/** How a server did over a time, as a strip. */
const props = defineProps<{ states: ServerHistory['states']; hours: number }>()
const parts = computed(() => {
  const to = Date.now()
  const from = to - props.hours * 3_600_000
  return props.states.map((s, i) => {
    const next = props.states[i + 1]
    const begin = Math.max(from, new Date(s.at).getTime())
    const end = next ? new Date(next.at).getTime() : to
    return {
      key: s.at,
      left: (100 * (begin - from)) / (to - from),
      width: Math.max(0.4, (100 * Math.max(0, end - begin)) / (to - from)),
      state: s.state,
      text: `${s.state}${s.cause ? ` (${s.cause})` : ''} since ${fullMoment(s.at)}`,
    }
  })
})
const told = computed(() => parts.value.map((p) => p.text).join('; ') || 'nothing is known')
</script>

<template>
  <div class="strip" role="img" :aria-label="told">
    <span
      v-for="p in parts"
      :key="p.key"
      :class="p.state"
      :style="{ left: `${Math.min(p.left, 99.6)}%`, width: `${p.width}%` }"
      :title="p.text"
    />
  </div>
</template>

<style scoped>
.strip {
  position: relative;
  height: 12px;
  border-radius: 3px;
  background: var(--line);
  overflow: hidden;
}
.strip span {
  position: absolute;
  top: 0;
  bottom: 0;
  background: var(--quiet);
}
.strip .ready {
  background: var(--good);
}
.strip .failing {
  background: var(--bad);
}
.strip .waiting {
  background: var(--warn);
}
</style>
