<script setup lang="ts">
import { computed, ref } from 'vue'
import { number } from '../state/format'
import ChartFrame from './ChartFrame.vue'
import { extent, FRAME } from './scale'

/** Bars by label, with a span (middle half) where one is given, and a second set beside them. */
const props = defineProps<{
  title: string
  labels: (string | number)[]
  values: (number | null)[]
  low?: (number | null)[]
  high?: (number | null)[]
  /** A second bar per label, drawn beside it in grey: what it was before. */
  before?: (number | null)[]
  color?: string
  bound?: number
}>()
const size = ref({ width: 0, height: 0 })

const range = computed(() => {
  const bounds = props.bound ? [props.bound, -props.bound] : []
  const spans = [...(props.low ?? []), ...(props.high ?? []), ...(props.before ?? [])]
  const [low, high] = extent([...props.values, ...spans, ...bounds, 0])
  const room = (high - low || 1) * 0.05
  return [low < 0 ? low - room : low, high > 0 ? high + room : high] as [number, number]
})
const step = computed(
  () => Math.max(size.value.width - FRAME.left - FRAME.right, 10) / Math.max(props.values.length, 1),
)
const x = (index: number) => FRAME.left + index * step.value
const spacing = computed(() => {
  const longest = Math.max(1, ...props.labels.map((label) => String(label).length))
  return Math.max(1, Math.ceil(((longest + 1) * 7.5) / step.value))
})
const description = computed(() => {
  const said = props.values.map((v, i) => `${props.labels[i]} ${number(v)}`)
  return `${props.title}: ${said.slice(0, 60).join(', ')}`
})
const rows = () => props.values.map((value, i) => [String(props.labels[i]), value] as const)
</script>

<template>
  <ChartFrame
    v-slot="{ y, bottom }"
    v-model:size="size"
    :title="title"
    :description="description"
    :range="range"
    :head="['label', 'value']"
    :rows="rows"
  >
    <template v-if="bound">
      <line
        v-for="edge in [bound, -bound]"
        :key="edge"
        class="bound"
        :x1="FRAME.left"
        :x2="size.width - FRAME.right"
        :y1="y(edge)"
        :y2="y(edge)"
      />
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
        :y="bottom + 15"
        text-anchor="middle"
      >
        {{ labels[i] }}
      </text>
    </template>
  </ChartFrame>
</template>

<style scoped>
.bound {
  stroke: var(--ink-3);
  stroke-dasharray: 3 3;
}
.whisker {
  stroke: var(--ink);
}
</style>
