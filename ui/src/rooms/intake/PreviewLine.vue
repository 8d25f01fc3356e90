<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Shapes } from '../../api/client'
import type { LaneSeries } from '../../charts/lane'
import { aligned, valueRange } from '../../charts/laneData'
import { laneOptions } from '../../charts/laneOptions'
import { useLane } from '../../charts/useLane'
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
const host = ref<HTMLElement>()
const series = computed<LaneSeries[]>(() => [
  {
    label: props.title,
    points: props.line,
    color: props.other ? 'var(--ink-3)' : 'var(--ink)',
    width: 1.25,
    lonely: true,
  },
  ...(props.other
    ? [{ label: 'other', points: props.other, color: 'var(--c2)', width: 1.25, dash: [5, 3] }]
    : []),
])
const extent = computed(() => {
  const times = [props.line, ...(props.other ? [props.other] : [])].flatMap(({ times }) => [
    times[0] ?? 0,
    times[times.length - 1] ?? 1,
  ])
  const [low, high] = [Math.min(...times), Math.max(...times)]
  return (high > low ? [low, high] : [low - 1, low + 1]) as [number, number]
})
const all = { threshold: null, fromZero: false, robust: false }
const range = (): [number, number] => {
  const { low, high } = valueRange(series.value, [], extent.value, all)
  return [low, high]
}
useLane(host, {
  options: (width, height) =>
    laneOptions(
      {
        series: () => series.value,
        bands: () => [],
        pennants: () => [],
        filled: () => props.line,
        threshold: () => null,
        cutoff: () => null,
        masks: () => [],
        span: () => extent.value,
        range,
        leaving: () => false,
        zone: props.zone,
        showTime: true,
        offset: () => undefined,
        pointed: () => undefined,
      },
      width,
      height,
    ),
  data: () => aligned(series.value, []),
  lines: () => series.value,
  shape: () => [props.zone, series.value.map((each) => [each.label, each.color])].toString(),
  span: () => extent.value,
  marks: () => props.line,
})
const day = (time: number) =>
  new Intl.DateTimeFormat('en-GB', { timeZone: props.zone, dateStyle: 'medium' }).format(
    new Date(time * 1000),
  )
const said = computed(() => {
  const known = series.value.flatMap((each) => each.points.values.filter((v): v is number => v !== null))
  const [low, high] = known.reduce(
    ([least, most], v) => [Math.min(least, v), Math.max(most, v)],
    [Infinity, -Infinity],
  )
  const values = [`${number(low)} – ${number(high)}`, props.unit].filter(Boolean).join(' ')
  return `${values}, ${day(extent.value[0])} – ${day(extent.value[1])}, ${props.zone}`
})
</script>

<template>
  <figure class="panel">
    <figcaption>
      {{ title }}
      <span class="number second">{{ said }}</span>
      <button v-if="part" class="link second" @click="emit('whole')">show all of it</button>
      <b v-if="note" class="note">dashed: {{ note }}</b>
    </figcaption>
    <div ref="host" class="host" role="img" :aria-label="`Preview of ${title}: ${said}`"></div>
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
.host {
  position: relative;
  height: 150px;
  overflow: hidden;
}
</style>
