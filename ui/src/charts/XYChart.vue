<script setup lang="ts">
import { computed, ref } from 'vue'
import { number } from '../state/format'
import ChartFrame from './ChartFrame.vue'
import { extent, FRAME, logTicks, ticks, tickText } from './scale'

/** Anything whose horizontal axis is not time: lines, points and bars on numbers. */
export interface XYSeries {
  label: string
  x: number[]
  y: (number | null)[]
  kind: 'line' | 'points' | 'bars'
  color: string
  dash?: string
  /** Values that stand out among bars, by place. */
  marked?: number[]
}
const props = defineProps<{
  title: string
  series: XYSeries[]
  xLabel?: string
  yLabel?: string
  logX?: boolean
  fromZero?: boolean
  marks?: { x: number; label: string }[]
  picked?: number | null
  note?: string
  labelled?: boolean
}>()
const emit = defineEmits<{ pick: [place: number] }>()

const size = ref({ width: 0, height: 0 })
const hovered = ref<{ label: string; x: number; y: number } | null>(null)
const right = computed(() => Math.max(size.value.width - FRAME.right, FRAME.left + 20))

const xs = computed(() => {
  const [low, high] = extent(props.series.flatMap((each) => each.x))
  const room = props.series.some((each) => each.kind === 'bars') ? halfBar.value : 0
  return props.logX
    ? [Math.log(Math.max(low, 1e-9)), Math.log(Math.max(high, 1e-9))]
    : [low - room, high + room]
})
const range = computed(() => {
  let [low, high] = extent(props.series.flatMap((each) => each.y))
  if (props.fromZero || props.series.some((each) => each.kind === 'bars')) {
    low = Math.min(low, 0)
    high = Math.max(high, 0)
  }
  const room = (high - low || Math.abs(high) || 1) * 0.06
  return [low < 0 || !props.fromZero ? low - room : low, high + room] as [number, number]
})
const halfBar = computed(() => {
  const bars = props.series.find((each) => each.kind === 'bars')
  return bars && bars.x.length > 1 ? ((bars.x[1] as number) - (bars.x[0] as number)) / 2 : 0.5
})
const px = (x: number) => {
  const [low, high] = xs.value as [number, number]
  return (
    FRAME.left + (((props.logX ? Math.log(x) : x) - low) / (high - low || 1)) * (right.value - FRAME.left)
  )
}
const wanted = computed(() => Math.max(Math.floor((right.value - FRAME.left) / 44), 2))
const allTicks = computed(() => {
  const [low, high] = xs.value as [number, number]
  return props.logX ? logTicks(Math.exp(low), Math.exp(high)) : ticks(low, high, wanted.value)
})
const xTicks = computed(() => {
  const all = allTicks.value
  const every = props.logX ? Math.ceil(all.length / wanted.value) : 1
  const free = right.value - (props.xLabel ? props.xLabel.length * 6.5 + 24 : 0)
  return all.filter((at, i) => i % every === 0 && px(at) < free)
})
const apart = computed(() => {
  const [first = 1, second] = allTicks.value
  return second === undefined ? Math.abs(first) : second - first
})
function path(each: XYSeries, y: (value: number) => number): string {
  let out = ''
  let open = false
  each.y.forEach((value, i) => {
    if (value === null) return (open = false)
    out += `${open ? 'L' : 'M'}${px(each.x[i] as number).toFixed(1)} ${y(value).toFixed(1)}`
    return (open = true)
  })
  return out
}
const barWidth = computed(() => Math.max(Math.abs(px(1 + 2 * halfBar.value) - px(1)) * 0.72, 1))
const rows = () =>
  props.series.flatMap((each) => each.x.map((x, i) => [each.label, x, each.y[i] ?? null] as const))
const said = computed(() =>
  hovered.value
    ? `${hovered.value.label} ${number(hovered.value.x)}: ${number(hovered.value.y)}`
    : props.note,
)
</script>

<template>
  <ChartFrame
    v-slot="{ y, bottom }"
    v-model:size="size"
    :title="title"
    :note="said"
    :range="range"
    :head="['series', xLabel ?? 'x', yLabel ?? 'y']"
    :rows="rows"
    :labels="labelled ? series.map((each) => ({ text: each.label, color: each.color })) : undefined"
  >
    <text
      v-for="tick in xTicks"
      :key="`x${tick}`"
      class="number"
      :x="px(tick)"
      :y="bottom + 15"
      text-anchor="middle"
    >
      {{ logX ? String(+tick.toPrecision(2)) : tickText(tick, apart) }}
    </text>
    <g v-for="(mark, i) in marks" :key="`m${i}`">
      <line class="mark" :x1="px(mark.x)" :x2="px(mark.x)" :y1="FRAME.top" :y2="bottom" />
      <text :x="Math.min(px(mark.x) + 4, right - 40)" :y="FRAME.top + 10 + 13 * (i % 3)">{{
        mark.label
      }}</text>
    </g>
    <g v-for="each in series" :key="each.label">
      <path
        v-if="each.kind === 'line'"
        :d="path(each, y)"
        :stroke="each.color"
        :stroke-dasharray="each.dash"
        class="line"
      />
      <template v-for="(value, i) in each.y" v-else :key="i">
        <rect
          v-if="each.kind === 'bars' && value !== null"
          :x="px(each.x[i] as number) - barWidth / 2"
          :width="barWidth"
          :y="Math.min(y(value), y(0))"
          :height="Math.max(Math.abs(y(value) - y(0)), 0.5)"
          :fill="each.marked?.includes(i) ? 'var(--c4)' : each.color"
          @pointerenter="hovered = { label: each.label, x: each.x[i] as number, y: value }"
          @pointerleave="hovered = null"
        />
        <circle
          v-else-if="value !== null"
          :cx="px(each.x[i] as number)"
          :cy="y(value)"
          :r="picked === i ? 5 : 2"
          :fill="picked === i ? 'var(--cutoff)' : each.color"
          :class="{ faint: each.y.length > 300 }"
          @pointerenter="hovered = { label: each.label, x: each.x[i] as number, y: value }"
          @pointerleave="hovered = null"
          @click="emit('pick', i)"
        />
      </template>
    </g>
    <text v-if="xLabel" :x="right" :y="bottom + 15" text-anchor="end">{{ xLabel }}</text>
    <text v-if="yLabel" :x="FRAME.left + 4" :y="FRAME.top + 10">{{ yLabel }}</text>
  </ChartFrame>
</template>

<style scoped>
.mark {
  stroke: var(--ink-3);
  stroke-dasharray: 2 3;
}
.line {
  fill: none;
  stroke-width: 1.25;
}
circle {
  cursor: pointer;
}
.faint {
  fill-opacity: 0.55;
}
</style>
