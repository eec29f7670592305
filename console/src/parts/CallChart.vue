<script setup lang="ts">
import { computed } from 'vue'
import type { Bucket } from '../api'

/** Calls over time as stacked bars: done, refused, failed. */
const props = defineProps<{ buckets: Bucket[]; since: number; step: number; count: number }>()

const height = 64
const slots = computed(() => {
  const byIndex = new Map<number, Bucket>()
  for (const b of props.buckets) byIndex.set(Math.round((new Date(b.at).getTime() - props.since) / (props.step * 1000)), b)
  return Array.from(
    { length: props.count },
    (_, i) => byIndex.get(i) ?? { at: new Date(props.since + i * props.step * 1000).toISOString(), ok: 0, refused: 0, failed: 0 },
  )
})
const top = computed(() => Math.max(1, ...slots.value.map((b) => b.ok + b.refused + b.failed)))
const totals = computed(() =>
  slots.value.reduce((t, b) => ({ ok: t.ok + b.ok, refused: t.refused + b.refused, failed: t.failed + b.failed }), {
    ok: 0,
    refused: 0,
    failed: 0,
  }),
)
const bars = computed(() =>
  slots.value.map((b, i) => {
    const h = (n: number) => (n / top.value) * height
    const at = new Date(b.at)
    return {
      x: i * 10 + 1,
      ok: h(b.ok),
      refused: h(b.refused),
      failed: h(b.failed),
      title: `${at.toLocaleString(undefined, { weekday: 'short', hour: '2-digit', minute: '2-digit', hour12: false })}: ${b.ok} done, ${b.refused} refused, ${b.failed} failed`,
    }
  }),
)
const label = computed(() => `Calls in this time: ${totals.value.ok} done, ${totals.value.refused} refused, ${totals.value.failed} failed`)
const startText = computed(() =>
  new Date(props.since).toLocaleString(undefined, { weekday: 'short', hour: '2-digit', minute: '2-digit', hour12: false }),
)
</script>

<template>
  <figure class="chart">
    <svg :viewBox="`0 0 ${count * 10} ${height}`" preserveAspectRatio="none" role="img" :aria-label="label">
      <g v-for="b in bars" :key="b.x">
        <title>{{ b.title }}</title>
        <rect :x="b.x" y="0" width="8" :height="height" fill="transparent" />
        <rect class="ok" :x="b.x" :y="height - b.ok" width="8" :height="b.ok" />
        <rect class="refused" :x="b.x" :y="height - b.ok - b.refused" width="8" :height="b.refused" />
        <rect class="failed" :x="b.x" :y="height - b.ok - b.refused - b.failed" width="8" :height="b.failed" />
      </g>
    </svg>
    <figcaption>
      <span class="soft">{{ startText }}</span>
      <span class="key"><i class="ok" /> {{ totals.ok }} done</span>
      <span class="key"><i class="refused" /> {{ totals.refused }} refused</span>
      <span class="key"><i class="failed" /> {{ totals.failed }} failed</span>
      <span class="soft">peak {{ top }} per bar</span>
      <span class="soft end">now</span>
    </figcaption>
  </figure>
</template>

<style scoped>
.chart {
  margin: 0;
}
svg {
  display: block;
  width: 100%;
  height: 64px;
  border-bottom: 1px solid var(--line);
}
rect.ok,
i.ok {
  fill: var(--accent);
  background: var(--accent);
}
rect.refused,
i.refused {
  fill: #d9a066;
  background: #d9a066;
}
rect.failed,
i.failed {
  fill: var(--bad);
  background: var(--bad);
}
figcaption {
  display: flex;
  gap: 16px;
  font-size: 12px;
  padding-top: 4px;
}
.key i {
  display: inline-block;
  width: 9px;
  height: 9px;
  border-radius: 2px;
}
.end {
  margin-left: auto;
}
</style>
