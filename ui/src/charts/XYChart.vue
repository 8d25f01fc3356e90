<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { number } from '../state/format'
import { copyRows, copySvg } from './copy'
import { extent, logTicks, ticks, tickText } from './scale'

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
}>()
const emit = defineEmits<{ pick: [place: number] }>()

const host = ref<HTMLElement>()
const picture = ref<SVGSVGElement>()
const { width, height } = useElementSize(host)
const LEFT = 50
const BOTTOM = 20
const TOP = 6
const hovered = ref<{ label: string; x: number; y: number } | null>(null)

const box = computed(() => ({
  right: Math.max(width.value - 10, LEFT + 20),
  bottom: Math.max(height.value - BOTTOM, TOP + 20),
}))
const xs = computed(() => {
  const [low, high] = extent(props.series.flatMap((each) => each.x))
  const room = props.series.some((each) => each.kind === 'bars') ? halfBar(props.series) : 0
  return props.logX
    ? [Math.log(Math.max(low, 1e-9)), Math.log(Math.max(high, 1e-9))]
    : [low - room, high + room]
})
const ys = computed(() => {
  let [low, high] = extent(props.series.flatMap((each) => each.y))
  if (props.fromZero || props.series.some((each) => each.kind === 'bars')) {
    low = Math.min(low, 0)
    high = Math.max(high, 0)
  }
  const room = (high - low || Math.abs(high) || 1) * 0.06
  return [low < 0 || !props.fromZero ? low - room : low, high + room]
})
function halfBar(series: XYSeries[]): number {
  const bars = series.find((each) => each.kind === 'bars')
  return bars && bars.x.length > 1 ? ((bars.x[1] as number) - (bars.x[0] as number)) / 2 : 0.5
}
const px = (x: number) => {
  const [low, high] = xs.value as [number, number]
  return LEFT + (((props.logX ? Math.log(x) : x) - low) / (high - low || 1)) * (box.value.right - LEFT)
}
const py = (y: number) => {
  const [low, high] = ys.value as [number, number]
  return box.value.bottom - ((y - low) / (high - low || 1)) * (box.value.bottom - TOP)
}
const xTicks = computed(() => {
  const [low, high] = xs.value as [number, number]
  const count = Math.max(Math.floor((box.value.right - LEFT) / 44), 2)
  const all = props.logX ? logTicks(Math.exp(low), Math.exp(high)) : ticks(low, high, count)
  const every = props.logX ? Math.ceil(all.length / count) : 1
  const free = box.value.right - (props.xLabel ? props.xLabel.length * 6.5 + 24 : 0)
  return all.filter((at, i) => i % every === 0 && px(at) < free)
})
const yTicks = computed(() =>
  ticks(ys.value[0] as number, ys.value[1] as number, Math.max(Math.floor((box.value.bottom - TOP) / 34), 1)),
)
const step = (all: number[]) => (all.length > 1 ? (all[1] as number) - (all[0] as number) : 1)
function path(each: XYSeries): string {
  let out = ''
  let open = false
  each.y.forEach((value, i) => {
    if (value === null) return (open = false)
    out += `${open ? 'L' : 'M'}${px(each.x[i] as number).toFixed(1)} ${py(value).toFixed(1)}`
    return (open = true)
  })
  return out
}
const barWidth = computed(() => Math.max(Math.abs(px(1 + 2 * halfBar(props.series)) - px(1)) * 0.72, 1))
const rows = computed(() =>
  props.series.flatMap((each) => each.x.map((x, i) => [each.label, x, each.y[i] ?? null] as const)),
)
</script>

<template>
  <figure class="chart">
    <figcaption>
      <span class="title">{{ title }}</span>
      <span class="second note">{{
        hovered ? `${hovered.label} ${number(hovered.x)}: ${number(hovered.y)}` : note
      }}</span>
      <span class="copies">
        <button title="Copy the chart as SVG" aria-label="Copy the chart as SVG" @click="copySvg(picture)">
          SVG</button
        ><button
          title="Copy the values as CSV"
          aria-label="Copy the values as CSV"
          @click="copyRows(['series', xLabel ?? 'x', yLabel ?? 'y'], rows)"
        >
          CSV
        </button>
      </span>
    </figcaption>
    <div ref="host" class="host">
      <svg ref="picture" :width="width" :height="height" role="img" :aria-label="title">
        <g v-for="tick in yTicks" :key="`y${tick}`">
          <line class="grid" :x1="LEFT" :x2="box.right" :y1="py(tick)" :y2="py(tick)" />
          <text class="number" :x="LEFT - 6" :y="py(tick) + 4" text-anchor="end">
            {{ tickText(tick, step(yTicks)) }}
          </text>
        </g>
        <text
          v-for="tick in xTicks"
          :key="`x${tick}`"
          class="number"
          :x="px(tick)"
          :y="box.bottom + 15"
          text-anchor="middle"
        >
          {{ logX ? String(+tick.toPrecision(2)) : tickText(tick, step(xTicks)) }}
        </text>
        <line
          v-if="(ys[0] as number) < 0 && (ys[1] as number) > 0"
          class="axis"
          :x1="LEFT"
          :x2="box.right"
          :y1="py(0)"
          :y2="py(0)"
        />
        <g v-for="(mark, i) in marks" :key="`m${i}`">
          <line class="mark" :x1="px(mark.x)" :x2="px(mark.x)" :y1="TOP" :y2="box.bottom" />
          <text :x="Math.min(px(mark.x) + 4, box.right - 40)" :y="TOP + 10 + 13 * (i % 3)">
            {{ mark.label }}
          </text>
        </g>
        <g v-for="each in series" :key="each.label">
          <path
            v-if="each.kind === 'line'"
            :d="path(each)"
            :stroke="each.color"
            :stroke-dasharray="each.dash"
            class="line"
          />
          <template v-for="(value, i) in each.y" v-else :key="i">
            <rect
              v-if="each.kind === 'bars' && value !== null"
              :x="px(each.x[i] as number) - barWidth / 2"
              :width="barWidth"
              :y="Math.min(py(value), py(0))"
              :height="Math.max(Math.abs(py(value) - py(0)), 0.5)"
              :fill="each.marked?.includes(i) ? 'var(--c4)' : each.color"
              @pointerenter="hovered = { label: each.label, x: each.x[i] as number, y: value }"
              @pointerleave="hovered = null"
            />
            <circle
              v-else-if="value !== null"
              :cx="px(each.x[i] as number)"
              :cy="py(value)"
              :r="picked === i ? 5 : 2"
              :fill="picked === i ? 'var(--cutoff)' : each.color"
              :class="{ faint: each.y.length > 300 }"
              @pointerenter="hovered = { label: each.label, x: each.x[i] as number, y: value }"
              @pointerleave="hovered = null"
              @click="emit('pick', i)"
            />
          </template>
        </g>
        <text v-if="xLabel" class="label" :x="box.right" :y="box.bottom + 15" text-anchor="end">
          {{ xLabel }}
        </text>
        <text v-if="yLabel" class="label" :x="LEFT + 4" :y="TOP + 10">{{ yLabel }}</text>
      </svg>
    </div>
  </figure>
</template>

<style scoped>
.chart {
  margin: 0;
  min-width: 0;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
figcaption {
  display: flex;
  gap: 10px;
  font-size: 12px;
  color: var(--ink-2);
  white-space: nowrap;
}
.title {
  flex: 0 1 auto;
  overflow: hidden;
  text-overflow: ellipsis;
}
.note {
  flex: 1 1000 0;
  text-align: right;
  overflow: hidden;
  text-overflow: ellipsis;
}
figcaption {
  position: relative;
}
.copies {
  position: absolute;
  right: 0;
  background: var(--panel);
  opacity: 0;
}
.copies button {
  border: 0;
  background: none;
  color: var(--ink-2);
  font-size: 12px;
  padding: 0 0 0 6px;
  cursor: pointer;
}
.chart:hover .copies,
.copies:focus-within {
  opacity: 1;
}
.host {
  flex: 1;
  min-height: 60px;
  position: relative;
}
svg {
  position: absolute;
  inset: 0;
}
text {
  font-size: 12px;
  fill: var(--ink-2);
}
.label {
  font-size: 12px;
}
.grid {
  stroke: var(--hairline);
}
.axis {
  stroke: var(--ink-3);
}
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
