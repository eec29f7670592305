<script setup lang="ts">
import { BarChart, LineChart } from 'echarts/charts'
import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { init, use, type ECharts } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { fullMoment } from '../use/format'
import { useTheme } from '../use/theme'

use([BarChart, LineChart, GridComponent, TooltipComponent, LegendComponent, AriaComponent, CanvasRenderer])

export interface Line {
  name: string
  color: string
  values: number[]
  stack?: boolean
}

/** Figures over time. A step is chosen with the mouse, or with the arrow keys and Enter. */
const props = defineProps<{ title: string; times: string[]; lines: Line[]; unit: (n: number) => string; height?: number }>()
const emit = defineEmits<{ chosen: [index: number] }>()
const { theme } = useTheme()
const place = ref<HTMLElement>()
let chart: ECharts | undefined
const at = ref(-1)
const sum = (l: Line) => l.values.reduce((a, b) => a + b, 0)
const label = computed(
  () => `${props.title}. ${props.lines.map((l) => `${l.name}: ${props.unit(Math.max(0, ...l.values))} at most`).join(', ')}.`,
)
const spoken = computed(() => {
  const time = props.times[at.value]
  return time ? `${fullMoment(time)}: ${props.lines.map((l) => `${l.name} ${props.unit(l.values[at.value] ?? 0)}`).join(', ')}` : ''
})
const color = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()
function draw() {
  if (!chart) return
  const soft = color('ink-soft')
  const line = color('line')
  chart.setOption(
    {
      animation: false,
      aria: { enabled: true, label: { description: label.value } },
      grid: { left: 56, right: 12, top: 30, bottom: 24 },
      legend: { top: 0, right: 0, textStyle: { color: soft }, itemWidth: 12, itemHeight: 8 },
      tooltip: {
        trigger: 'axis',
        backgroundColor: color('sheet') || color('el-bg-color-overlay'),
        borderColor: line,
        textStyle: { color: color('ink') },
        valueFormatter: (v: unknown) => props.unit(Number(v)),
      },
      xAxis: {
        type: 'category',
        data: props.times.map((t) => fullMoment(t)),
        axisLabel: { color: soft, formatter: (_: string, i: number) => short(props.times[i] ?? '') },
        axisLine: { lineStyle: { color: line } },
      },
      yAxis: {
        type: 'value',
        axisLabel: { color: soft, formatter: (v: number) => props.unit(v) },
        splitLine: { lineStyle: { color: line } },
      },
      series: props.lines.map((l) => ({
        name: l.name,
        type: l.stack ? 'bar' : 'line',
        stack: l.stack ? 'all' : undefined,
        showSymbol: false,
        connectNulls: false,
        color: color(l.color),
        data: l.stack ? l.values : l.values.map((v) => (v > 0 ? v : null)),
      })),
    },
    true,
  )
}
const days = computed(() => {
  const [first, last] = [props.times[0], props.times.at(-1)]
  return first && last ? (new Date(last).getTime() - new Date(first).getTime()) / 86_400_000 : 0
})
function short(time: string) {
  const d = new Date(time)
  return days.value > 2
    ? d.toLocaleDateString(undefined, { day: '2-digit', month: 'short' })
    : d.toLocaleTimeString(undefined, { hour: '2-digit', minute: '2-digit', hour12: false })
}
function show(index: number) {
  at.value = Math.min(Math.max(index, 0), props.times.length - 1)
  chart?.dispatchAction({ type: 'showTip', seriesIndex: 0, dataIndex: at.value })
}
function key(e: KeyboardEvent) {
  const moves: Record<string, number> = { ArrowLeft: at.value - 1, ArrowRight: at.value + 1, Home: 0, End: props.times.length - 1 }
  const to = moves[e.key]
  if (to !== undefined) {
    e.preventDefault()
    show(to)
  } else if (e.key === 'Enter' && at.value >= 0) {
    emit('chosen', at.value)
  }
}
let watcher: ResizeObserver | undefined
onMounted(() => {
  if (!place.value) return
  chart = init(place.value)
  chart.getZr().on('click', (e) => {
    const point = chart?.convertFromPixel({ gridIndex: 0 }, [e.offsetX, e.offsetY])
    if (point && chart?.containPixel({ gridIndex: 0 }, [e.offsetX, e.offsetY])) emit('chosen', Math.round(Number(point[0])))
  })
  watcher = new ResizeObserver(() => chart?.resize())
  watcher.observe(place.value)
  draw()
})
watch([() => props.lines, () => props.times, theme], () => window.requestAnimationFrame(draw))
onBeforeUnmount(() => {
  watcher?.disconnect()
  chart?.dispose()
})
</script>

<template>
  <figure class="timechart">
    <figcaption>{{ title }}</figcaption>
    <div
      ref="place"
      class="place"
      :style="{ height: `${height ?? 190}px` }"
      tabindex="0"
      role="application"
      :aria-label="`${label} Arrow keys go through the steps, Enter shows the calls of one.`"
      @keydown="key"
    />
    <p class="spoken" aria-live="polite">{{ spoken }}</p>
    <details>
      <summary class="soft">As a table</summary>
      <div class="scroll" tabindex="0" role="region" :aria-label="`${title}, as a table`">
        <table class="list">
          <thead>
            <tr>
              <th>From</th>
              <th v-for="l in lines" :key="l.name" class="num">{{ l.name }}</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="(t, i) in times" :key="t">
              <tr v-if="lines.some((l) => l.values[i])">
                <td>{{ fullMoment(t) }}</td>
                <td v-for="l in lines" :key="l.name" class="num">{{ unit(l.values[i] ?? 0) }}</td>
              </tr>
            </template>
            <tr v-if="!lines.some(sum)">
              <td :colspan="lines.length + 1" class="soft">nothing in this time</td>
            </tr>
          </tbody>
        </table>
      </div>
    </details>
  </figure>
</template>

<style scoped>
.timechart {
  margin: 0;
}
figcaption {
  font-weight: 600;
}
.place {
  width: 100%;
}
.spoken {
  position: absolute;
  width: 1px;
  height: 1px;
  margin: 0;
  overflow: hidden;
  clip-path: inset(50%);
}
.scroll {
  max-height: 260px;
  overflow: auto;
}
</style>
