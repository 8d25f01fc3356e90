<script setup lang="ts">
import { computed } from 'vue'
import { number } from '../state/format'

const props = defineProps<{
  title: string
  curves: { label: string; values: (number | null)[]; color: string; dash?: string }[]
  mark?: number | null
  markLabel?: string
  xLabel?: string
}>()
const W = 260
const H = 100
const longest = computed(() => Math.max(2, ...props.curves.map((curve) => curve.values.length)))
const range = computed(() => {
  const all = props.curves.flatMap((curve) => curve.values).filter((v): v is number => v !== null)
  const low = Math.min(...all)
  const high = Math.max(...all)
  return all.length ? [low, high === low ? low + 1 : high] : [0, 1]
})
const x = (i: number) => 40 + (i / (longest.value - 1)) * (W - 48)
const y = (v: number) =>
  H -
  8 -
  ((v - (range.value[0] as number)) / ((range.value[1] as number) - (range.value[0] as number))) * (H - 18)
const path = (values: (number | null)[]) =>
  values
    .map((v, i) =>
      v === null
        ? ''
        : `${i === 0 || values[i - 1] === null ? 'M' : 'L'}${x(i).toFixed(1)} ${y(v).toFixed(1)}`,
    )
    .join('')
</script>

<template>
  <figure>
    <figcaption>
      {{ title }}
      <span v-for="curve in curves" :key="curve.label" :style="{ color: curve.color }">
        {{ curve.label }}</span
      >
    </figcaption>
    <svg :viewBox="`0 0 ${W} ${H}`" role="img" :aria-label="title">
      <text class="number" x="0" :y="14">{{ number(range[1], 3) }}</text>
      <text class="number" x="0" :y="H - 8">{{ number(range[0], 3) }}</text>
      <line v-if="mark != null" class="mark" :x1="x(mark)" :x2="x(mark)" y1="4" :y2="H - 6" />
      <text v-if="mark != null" :x="Math.min(x(mark) + 4, W - 30)" y="14">{{ markLabel }}</text>
      <path
        v-for="curve in curves"
        :key="curve.label"
        :d="path(curve.values)"
        :stroke="curve.color"
        :stroke-dasharray="curve.dash"
      />
    </svg>
    <div v-if="xLabel" class="x">{{ xLabel }}</div>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
}
figcaption,
.x {
  font-size: 12px;
  color: var(--ink-2);
}
.x {
  text-align: right;
}
svg {
  width: 100%;
  border: 1px solid var(--hairline);
  border-radius: 3px;
}
path {
  fill: none;
  stroke-width: 1.25;
}
figcaption span {
  margin-left: 6px;
}
text {
  font-size: 12px;
  fill: var(--ink-2);
}
.mark {
  stroke: var(--ink-3);
  stroke-dasharray: 2 3;
}
</style>
