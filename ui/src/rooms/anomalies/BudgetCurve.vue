<script setup lang="ts">
import { useResizeObserver } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { Shapes } from '../../api/client'
import { fixed, number } from '../../state/format'

/** What a budget costs and finds: planted faults that are caught, and flags on nothing planted, by flags a week. */
const props = defineProps<{ points: Shapes['CurvePointView'][]; perWeek: number; threshold: number }>()
const emit = defineEmits<{ threshold: [value: number] }>()
const host = ref<HTMLElement>()
const width = ref(240)
const HEIGHT = 92
const LEFT = 26
useResizeObserver(host, ([entry]) => (width.value = entry?.contentRect.width ?? 240))

const used = computed(() => props.points.filter((each) => each.per_week > 0))
const ends = computed(() => {
  const all = used.value.map((each) => each.per_week)
  return [Math.min(...all), Math.max(...all)] as const
})
const x = (perWeek: number) => {
  const [low, high] = ends.value
  const share = high > low ? Math.log(Math.max(perWeek, low) / low) / Math.log(high / low) : 0.5
  return LEFT + (width.value - LEFT - 4) * Math.min(Math.max(share, 0), 1)
}
const y = (share: number) => 4 + (HEIGHT - 8) * (1 - share)
const path = (share: (each: Shapes['CurvePointView']) => number | null) =>
  used.value
    .map((each) => ({ at: each.per_week, share: share(each) }))
    .filter((each) => each.share !== null)
    .map((each, i) => `${i ? 'L' : 'M'}${x(each.at).toFixed(1)} ${y(each.share ?? 0).toFixed(1)}`)
    .join('')
const most = computed(() => Math.max(...used.value.map((each) => each.unverified ?? 0), 1e-9))
const caught = computed(() => path((each) => each.drilled))
const stray = computed(() => path((each) => (each.unverified === null ? null : each.unverified / most.value)))
const drilled = computed(() => used.value.some((each) => each.drilled !== null))
const now = computed(
  () =>
    [...props.points].sort(
      (a, b) => Math.abs(a.threshold - props.threshold) - Math.abs(b.threshold - props.threshold),
    )[0],
)
const words = computed(() => {
  const said = `${number(props.perWeek, 2)} flags a week`
  if (!now.value || now.value.drilled === null) return said
  return `${said}: ${fixed(100 * now.value.drilled, 0)} % of planted faults caught`
})
function choose(event: MouseEvent) {
  const [best] = [...used.value].sort(
    (a, b) => Math.abs(x(a.per_week) - event.offsetX) - Math.abs(x(b.per_week) - event.offsetX),
  )
  if (best) emit('threshold', best.threshold)
}
</script>

<template>
  <figure ref="host">
    <svg
      v-if="drilled && used.length > 1"
      :width="width"
      :height="HEIGHT"
      role="img"
      :aria-label="`Budget curve. ${words}`"
      @click="choose"
    >
      <line :x1="LEFT" :x2="width - 4" :y1="y(0.5)" :y2="y(0.5)" stroke="var(--hairline)" />
      <line :x1="LEFT" :x2="width - 4" :y1="y(0)" :y2="y(0)" stroke="var(--hairline)" />
      <text :x="LEFT - 4" :y="y(0.5) + 4" class="tick">0.5</text>
      <path :d="stray" stroke="var(--worse)" stroke-dasharray="4 3" fill="none" />
      <path :d="caught" stroke="var(--better)" stroke-width="1.5" fill="none" />
      <line :x1="x(perWeek)" :x2="x(perWeek)" y1="0" :y2="HEIGHT" stroke="var(--ink)" stroke-width="1.5" />
      <text :x="LEFT + 6" y="14" class="caught">caught in the drill</text>
      <text :x="LEFT + 6" y="28" class="stray">unverified, up to {{ number(most, 2) }} in 1,000</text>
    </svg>
    <figcaption class="second">{{ words }}</figcaption>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
}
svg {
  display: block;
  border: 1px solid var(--hairline);
  cursor: pointer;
}
text {
  font-size: 11px;
  pointer-events: none;
}
text.tick {
  text-anchor: end;
  fill: var(--ink-2);
  font-family: 'Spline Sans Mono';
}
.caught {
  fill: var(--better);
}
.stray {
  fill: var(--worse);
}
figcaption {
  font-size: 12px;
  padding-top: 2px;
}
</style>
