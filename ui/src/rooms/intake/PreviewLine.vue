<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { number } from '../../state/format'

/** A series as it would become, before anything is stored; dashed over it what another remedy would make of it. */
const props = defineProps<{
  line: Shapes['Line']
  other?: Shapes['Line'] | null
  zone: string
  title: string
  unit: string
  note?: string
  /** Whether only a part of the series is shown. */
  part?: boolean
}>()
const emit = defineEmits<{ whole: [] }>()
const W = 1000
const H = 132
const lines = computed(() => [props.line, ...(props.other ? [props.other] : [])])
const known = computed(() =>
  lines.value.flatMap((each) => each.values.filter((v): v is number => v !== null)),
)
const range = computed(() => {
  const [low, high] = known.value.reduce(
    ([least, most], v) => [Math.min(least, v), Math.max(most, v)],
    [Infinity, -Infinity],
  )
  return [low, high] as [number, number]
})
const extent = computed(() => {
  const times = lines.value.flatMap((each) => [each.times[0] ?? 0, each.times[each.times.length - 1] ?? 1])
  return [Math.min(...times), Math.max(...times)] as [number, number]
})
const x = (time: number) => ((time - extent.value[0]) / (extent.value[1] - extent.value[0] || 1)) * W
const y = (value: number) =>
  H - 6 - ((value - range.value[0]) / (range.value[1] - range.value[0] || 1)) * (H - 12)
const path = (line: Shapes['Line']) =>
  line.values
    .map((v, i) => {
      if (v === null) return ''
      const pen = i === 0 || line.values[i - 1] === null ? 'M' : 'L'
      return `${pen}${x(line.times[i] as number).toFixed(1)} ${y(v).toFixed(1)}`
    })
    .join('')
/** Points with nothing beside them would not show as a line. */
const lonely = computed(() => {
  const { times, values, filled } = props.line
  const marked = new Set(filled ?? [])
  return values.flatMap((v, i) => {
    const alone = (values[i - 1] ?? null) === null && (values[i + 1] ?? null) === null
    return v !== null && (alone || marked.has(i))
      ? [{ x: x(times[i] as number), y: y(v), filled: marked.has(i) }]
      : []
  })
})
const day = (time: number | undefined) =>
  time === undefined
    ? ''
    : new Intl.DateTimeFormat('en-GB', { timeZone: props.zone, dateStyle: 'medium' }).format(
        new Date(time * 1000),
      )
const extentText = computed(() => {
  const values = [`${number(range.value[0])} – ${number(range.value[1])}`, props.unit]
    .filter(Boolean)
    .join(' ')
  return `${values}, ${day(extent.value[0])} – ${day(extent.value[1])}, ${props.zone}`
})
</script>

<template>
  <figure class="panel">
    <figcaption>
      {{ title }}
      <span class="number second">{{ extentText }}</span>
      <button v-if="part" class="link second" @click="emit('whole')">show all of it</button>
      <b v-if="note" class="note">dashed: {{ note }}</b>
    </figcaption>
    <svg :viewBox="`0 0 ${W} ${H}`" preserveAspectRatio="none" role="img" :aria-label="`Preview of ${title}`">
      <path :d="path(line)" :class="{ pale: other }" />
      <path v-if="other" class="other" :d="path(other)" />
      <path
        v-for="(dot, i) in lonely"
        :key="i"
        :class="dot.filled ? 'filled' : 'dot'"
        :d="`M${dot.x} ${dot.y}l0 0`"
      />
    </svg>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  padding: 8px 12px;
}
figcaption {
  display: flex;
  gap: 12px;
  flex-wrap: wrap;
}
.note {
  margin-left: auto;
  color: var(--c2);
  font-weight: 400;
}
svg {
  width: 100%;
  height: 132px;
}
path {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.25;
  vector-effect: non-scaling-stroke;
}
.pale {
  stroke: var(--ink-3);
}
.other {
  stroke: var(--c2);
  stroke-dasharray: 5 3;
}
.dot,
.filled {
  stroke-width: 3.5;
  stroke-linecap: round;
}
.filled {
  stroke: var(--ink-2);
  stroke-width: 5;
}
</style>
