<script setup lang="ts">
import { computed } from 'vue'
import { number } from '../state/format'

const props = defineProps<{
  title: string
  labels: (string | number)[]
  values: (number | null)[]
  low?: (number | null)[]
  high?: (number | null)[]
  bound?: number
  marked?: number[]
  color?: string
  every?: number
}>()
const W = 300
const H = 110
const BASE = 92

const range = computed(() => {
  const all = [...props.values, ...(props.low ?? []), ...(props.high ?? []), 0].filter(
    (v): v is number => v !== null && v !== undefined,
  )
  if (props.bound) all.push(props.bound, -props.bound)
  return [Math.min(...all), Math.max(...all, 1e-12)] as [number, number]
})
const y = (value: number) =>
  BASE - ((value - range.value[0]) / (range.value[1] - range.value[0])) * (BASE - 8)
const step = computed(() => (W - 40) / Math.max(props.values.length, 1))
const x = (index: number) => 38 + index * step.value
const spacing = computed(() => {
  const longest = Math.max(1, ...props.labels.map((label) => String(label).length))
  const fitting = Math.ceil((props.labels.length * (longest + 1) * 7.5) / 230)
  return props.every ? props.every * Math.max(1, Math.ceil(fitting / props.every)) : Math.max(1, fitting)
})
const description = computed(
  () =>
    `${props.title}: ${props.values
      .map((v, i) => `${props.labels[i]} ${number(v)}`)
      .slice(0, 60)
      .join(', ')}`,
)
</script>

<template>
  <figure>
    <figcaption>{{ title }}</figcaption>
    <svg :viewBox="`0 0 ${W} ${H}`" preserveAspectRatio="none" role="img" :aria-label="description">
      <line class="axis" x1="36" :x2="W" :y1="y(0)" :y2="y(0)" />
      <template v-if="bound">
        <line class="bound" x1="36" :x2="W" :y1="y(bound)" :y2="y(bound)" />
        <line class="bound" x1="36" :x2="W" :y1="y(-bound)" :y2="y(-bound)" />
      </template>
      <template v-for="(value, i) in values" :key="i">
        <rect
          v-if="value !== null"
          :x="x(i) + step * 0.12"
          :width="Math.max(step * 0.76, 0.8)"
          :y="Math.min(y(value), y(0))"
          :height="Math.max(Math.abs(y(value) - y(0)), 0.4)"
          :fill="marked?.includes(i) ? 'var(--c4)' : (color ?? 'var(--ink-3)')"
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
      </template>
    </svg>
    <div class="scale number">
      <span>{{ number(range[1], 3) }}</span><span>{{ number(range[0], 3) }}</span>
    </div>
    <div class="labels number">
      <span
        v-for="(label, i) in labels"
        v-show="i % spacing === 0"
        :key="i"
        :style="{ left: ((x(i) + step / 2) / W) * 100 + '%' }"
        >{{ label }}</span
      >
    </div>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  position: relative;
  min-width: 0;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
figcaption {
  font-size: 12px;
  color: var(--ink-2);
}
svg {
  width: 100%;
  flex: 1;
  min-height: 0;
}
.axis {
  stroke: var(--ink-3);
  stroke-width: 1;
  vector-effect: non-scaling-stroke;
}
.bound {
  stroke: var(--ink-3);
  stroke-dasharray: 3 3;
  vector-effect: non-scaling-stroke;
}
.whisker {
  stroke: var(--ink);
  vector-effect: non-scaling-stroke;
}
.scale {
  position: absolute;
  left: 0;
  top: 18px;
  bottom: 26px;
  display: flex;
  flex-direction: column;
  justify-content: space-between;
  font-size: 12px;
  color: var(--ink-2);
}
.labels {
  position: relative;
  height: 16px;
  margin-top: -12px;
  font-size: 12px;
  color: var(--ink-2);
}
.labels span {
  position: absolute;
  transform: translateX(-50%);
  white-space: nowrap;
}
</style>
