<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { number } from '../../state/format'

/** The first series as it would become, before anything is stored. */
const props = defineProps<{ line: Shapes['Line']; zone: string; title: string; unit: string }>()
const W = 1000
const H = 120
const known = computed(() => props.line.values.filter((v): v is number => v !== null))
const range = computed(() => [Math.min(...known.value), Math.max(...known.value)] as const)
const path = computed(() => {
  const { times, values } = props.line
  const first = times[0] ?? 0
  const width = (times[times.length - 1] ?? 1) - first || 1
  const [low, high] = range.value
  return values
    .map((v, i) => {
      if (v === null) return ''
      const pen = i === 0 || values[i - 1] === null ? 'M' : 'L'
      return `${pen}${((((times[i] as number) - first) / width) * W).toFixed(1)} ${(H - 6 - ((v - low) / (high - low || 1)) * (H - 12)).toFixed(1)}`
    })
    .join('')
})
const day = (time: number | undefined) =>
  time === undefined
    ? ''
    : new Intl.DateTimeFormat('en-GB', { timeZone: props.zone, dateStyle: 'medium' }).format(
        new Date(time * 1000),
      )
</script>

<template>
  <figure class="panel">
    <figcaption>
      {{ title }}
      <span class="number second"
        >{{ number(range[0]) }} – {{ number(range[1]) }} {{ unit }}, {{ day(line.times[0]) }} –
        {{ day(line.times[line.times.length - 1]) }}</span
      >
    </figcaption>
    <svg :viewBox="`0 0 ${W} ${H}`" preserveAspectRatio="none" role="img" :aria-label="`Preview of ${title}`">
      <path :d="path" />
    </svg>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  padding: 8px 12px;
}
svg {
  width: 100%;
  height: 120px;
}
path {
  fill: none;
  stroke: var(--ink);
  vector-effect: non-scaling-stroke;
}
</style>
