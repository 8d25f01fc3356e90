<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { number } from '../state/format'
import { copyRows, copySvg } from './copy'
import { extent, ticks, tickText } from './scale'

/** Bars by label, with a span (middle half) where one is given, and a second set beside them. */
const props = defineProps<{
  title: string
  labels: (string | number)[]
  values: (number | null)[]
  low?: (number | null)[]
  high?: (number | null)[]
  /** A second bar per label, drawn behind in grey: what it was before. */
  before?: (number | null)[]
  color?: string
  bound?: number
}>()
const host = ref<HTMLElement>()
const picture = ref<SVGSVGElement>()
const { width, height } = useElementSize(host)
const LEFT = 50
const BOTTOM = 18
const TOP = 6

const range = computed(() => {
  const bounds = props.bound ? [props.bound, -props.bound] : []
  const [low, high] = extent([
    ...props.values,
    ...(props.low ?? []),
    ...(props.high ?? []),
    ...(props.before ?? []),
    ...bounds,
    0,
  ])
  const room = (high - low || 1) * 0.05
  return [low < 0 ? low - room : low, high > 0 ? high + room : high] as [number, number]
})
const bottom = computed(() => Math.max(height.value - BOTTOM, TOP + 10))
const y = (value: number) =>
  bottom.value - ((value - range.value[0]) / (range.value[1] - range.value[0] || 1)) * (bottom.value - TOP)
const step = computed(() => Math.max(width.value - LEFT - 8, 10) / Math.max(props.values.length, 1))
const x = (index: number) => LEFT + index * step.value
const marks = computed(() =>
  ticks(range.value[0], range.value[1], Math.max(Math.floor((bottom.value - TOP) / 22), 1)),
)
const apart = computed(() =>
  marks.value.length > 1 ? (marks.value[1] as number) - (marks.value[0] as number) : 1,
)
const spacing = computed(() => {
  const longest = Math.max(1, ...props.labels.map((label) => String(label).length))
  return Math.max(1, Math.ceil(((longest + 1) * 7.5) / step.value))
})
const description = computed(
  () =>
    `${props.title}: ${props.values
      .map((v, i) => `${props.labels[i]} ${number(v)}`)
      .slice(0, 60)
      .join(', ')}`,
)
const rows = computed(() => props.values.map((value, i) => [String(props.labels[i]), value] as const))
</script>

<template>
  <figure class="chart">
    <figcaption>
      <span class="title">{{ title }}</span>
      <span class="copies">
        <button title="Copy the chart as SVG" aria-label="Copy the chart as SVG" @click="copySvg(picture)">
          SVG</button
        ><button
          title="Copy the values as CSV"
          aria-label="Copy the values as CSV"
          @click="copyRows(['label', 'value'], rows)"
        >
          CSV
        </button>
      </span>
    </figcaption>
    <div ref="host" class="host">
      <svg ref="picture" :width="width" :height="height" role="img" :aria-label="description">
        <g v-for="mark in marks" :key="mark">
          <line class="grid" :x1="LEFT" :x2="width - 8" :y1="y(mark)" :y2="y(mark)" />
          <text class="number" :x="LEFT - 6" :y="y(mark) + 4" text-anchor="end">
            {{ tickText(mark, apart) }}
          </text>
        </g>
        <template v-if="bound">
          <line class="bound" :x1="LEFT" :x2="width - 8" :y1="y(bound)" :y2="y(bound)" />
          <line class="bound" :x1="LEFT" :x2="width - 8" :y1="y(-bound)" :y2="y(-bound)" />
        </template>
        <template v-for="(value, i) in values" :key="i">
          <rect
            v-if="before?.[i] != null"
            :x="x(i) + step * 0.08"
            :width="Math.max(step * 0.4, 0.8)"
            :y="Math.min(y(before[i]!), y(0))"
            :height="Math.max(Math.abs(y(before[i]!) - y(0)), 0.4)"
            fill="var(--ink-3)"
          />
          <rect
            v-if="value !== null"
            :x="x(i) + step * (before ? 0.5 : 0.12)"
            :width="Math.max(step * (before ? 0.4 : 0.76), 0.8)"
            :y="Math.min(y(value), y(0))"
            :height="Math.max(Math.abs(y(value) - y(0)), 0.4)"
            :fill="color ?? 'var(--ink-3)'"
          >
            <title>{{ labels[i] }}: {{ number(value) }}</title>
          </rect>
          <line
            v-if="low?.[i] != null && high?.[i] != null"
            class="whisker"
            :x1="x(i) + step / 2"
            :x2="x(i) + step / 2"
            :y1="y(low[i]!)"
            :y2="y(high[i]!)"
          />
          <text
            v-if="i % spacing === 0"
            class="number"
            :x="x(i) + step / 2"
            :y="bottom + 14"
            text-anchor="middle"
          >
            {{ labels[i] }}
          </text>
        </template>
        <line class="axis" :x1="LEFT" :x2="width - 8" :y1="y(0)" :y2="y(0)" />
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
  justify-content: space-between;
  font-size: 12px;
  color: var(--ink-2);
  white-space: nowrap;
}
.title {
  overflow: hidden;
  text-overflow: ellipsis;
}
.copies button {
  border: 0;
  background: none;
  color: var(--ink-2);
  font-size: 12px;
  padding: 0 0 0 6px;
  cursor: pointer;
  opacity: 0;
}
.chart:hover .copies button,
.copies button:focus-visible {
  opacity: 1;
}
.host {
  flex: 1;
  min-height: 50px;
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
.grid {
  stroke: var(--hairline);
}
.axis {
  stroke: var(--ink-3);
}
.bound {
  stroke: var(--ink-3);
  stroke-dasharray: 3 3;
}
.whisker {
  stroke: var(--ink);
}
</style>
