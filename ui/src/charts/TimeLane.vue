<script setup lang="ts">
import { computed, ref, shallowRef } from 'vue'
import { useProject } from '../state/project'
import { useView } from '../state/view'
import AnswerNote from '../widgets/AnswerNote.vue'
import { copyPlot } from './copy'
import { AXIS_WIDTH, RIGHT, type LaneProps } from './lane'
import { aligned, laneRows, valueRange } from './laneData'
import { attachGestures } from './laneGestures'
import { HEAD, laneOptions } from './laneOptions'
import { laneSvg } from './laneSvg'
import { chartMenu } from './menu'
import { useLane } from './useLane'
import { useLaneReading } from './useLaneReading'

/** Lines and ranges on the time axis, linked with all other lanes. */
const props = withDefaults(defineProps<LaneProps>(), {
  title: '',
  note: '',
  unit: '',
  bands: () => [],
  pennants: () => [],
  tinted: null,
  adjustable: false,
  drawable: false,
  showTime: false,
  threshold: null,
  fromZero: false,
  busy: false,
  answer: null,
  knownUntil: null,
  filled: null,
})
const emit = defineEmits<{
  threshold: [value: number]
  pick: [time: number]
  adjust: [span: [number, number]]
  /** What is drawn by hand: from one place to the next, time and value each. */
  draw: [from: [number, number], to: [number, number]]
}>()

const store = useProject()
const view = useView()
const host = ref<HTMLDivElement>()
const offset = ref('')
const flattened = ref(false)
/** A choice of axis; until there is one, what reading the file found decides. */
const chosen = shallowRef<boolean | null>(null)
const robust = computed(() => chosen.value ?? store.hasExtremes)
const cutoffTime = computed(() => props.knownUntil ?? (store.axis ? store.axis.time(view.cutoff - 1) : null))
const zone = computed(() => store.axis?.grid.zone ?? 'UTC')

function range(): [number, number] {
  const { threshold, fromZero } = props
  const found = valueRange(props.series, props.bands, view.span, {
    threshold,
    fromZero,
    robust: robust.value,
  })
  flattened.value = found.flattened
  return [found.low, found.high]
}
const options = (width: number, height: number) =>
  laneOptions(
    {
      series: () => props.series,
      bands: () => props.bands,
      pennants: () => props.pennants,
      tinted: () => props.tinted,
      filled: () => props.filled,
      threshold: () => props.threshold,
      cutoff: () => cutoffTime.value,
      masks: () => store.maskSpans(view.key),
      span: () => view.span,
      range,
      leaving: () => robust.value && flattened.value,
      zone: zone.value,
      showTime: props.showTime,
      offset: (note) => (offset.value = note),
      pointed: read,
    },
    width,
    height,
  )

const { read, step } = useLaneReading(
  () => props,
  () => chart(),
)

const { chart } = useLane(host, {
  options,
  data: () => aligned(props.series, props.bands),
  lines: () => [props.series, props.bands],
  shape: () =>
    [
      zone.value,
      props.showTime,
      props.series.map((s) => [s.label, s.color, s.dash?.join(), s.width]),
      props.bands.length,
    ].toString(),
  span: () => view.span,
  marks: () => [
    cutoffTime.value,
    props.threshold,
    props.pennants,
    props.tinted,
    robust.value,
    store.dataset?.masks,
  ],
  built: (u) =>
    attachGestures(u, view, {
      threshold: () => props.threshold,
      setThreshold: (value) => emit('threshold', value),
      pick: (time) => emit('pick', time),
      adjustable: () => (props.adjustable ? props.tinted : null),
      adjust: (span) => emit('adjust', span),
      drawable: (time) => props.drawable && time > (cutoffTime.value ?? Infinity),
      draw: (from, to) => emit('draw', from, to),
    }),
})
function toggle() {
  chosen.value = !robust.value
  chart()?.setData(aligned(props.series, props.bands), true)
}
function menu(event: Event) {
  const size = { width: host.value?.clientWidth ?? 800, height: host.value?.clientHeight ?? 300 }
  const svg = () => laneSvg(props.series, props.bands, view.span, size, zone.value)
  chartMenu.value = {
    event,
    items: copyPlot(host, svg, ['time', 'series', 'value'], laneRows(props.series)),
  }
}

const selectionStyle = computed(() => {
  if (!view.selection) return null
  const [low, high] = view.span
  const at = (time: number) => ((time - low) / (high - low)) * 100
  if (at(view.selection[1]) <= 0 || at(view.selection[0]) >= 100) return null
  const left = Math.max(at(view.selection[0]), 0)
  return { left: `${left}%`, width: `${Math.max(Math.min(at(view.selection[1]), 100) - left, 0)}%` }
})
const plotInset = `${HEAD}px ${RIGHT}px 8px ${AXIS_WIDTH}px`
const label = computed(() => `${props.title || props.name}${props.unit ? `, ${props.unit}` : ''}`)
</script>

<template>
  <section class="lane panel" :aria-label="title || name" :aria-busy="busy">
    <header :style="{ left: AXIS_WIDTH + 4 + 'px' }">
      <span class="note">{{ note }}</span>
      <span class="what">
        <button v-if="flattened" class="link" :aria-pressed="robust" @click="toggle">
          {{ robust ? 'without extremes' : 'with extremes' }}
        </button>
        <span v-if="offset" class="number">{{ offset }}</span>
        {{ title }}<template v-if="unit">&nbsp;{{ unit }}</template>
        <button class="corner" aria-label="Take this chart" v-tip="'Copy as PNG, SVG or CSV'" @click="menu">
          ⋯
        </button>
      </span>
    </header>
    <div
      ref="host"
      class="host"
      tabindex="0"
      role="img"
      :aria-label="`${label}: arrow keys read the values`"
      @keydown.left.prevent="step(-1)"
      @keydown.right.prevent="step(1)"
    ></div>
    <div class="over" :style="{ inset: plotInset }">
      <div v-if="selectionStyle" class="selected" :style="selectionStyle"></div>
    </div>
    <AnswerNote v-if="answer" :answer="answer" :what="title || name" />
    <slot />
  </section>
</template>

<style scoped>
.lane {
  position: relative;
  overflow: hidden;
}
.host {
  position: absolute;
  inset: 0;
}
.host:focus-visible {
  outline-offset: -2px;
}
header {
  position: absolute;
  z-index: 2;
  top: 3px;
  right: 6px;
  display: flex;
  justify-content: space-between;
  pointer-events: none;
  font-size: 12px;
  color: var(--ink-2);
}
header span {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.link,
.corner {
  pointer-events: auto;
}
.corner {
  border: 0;
  background: none;
  color: var(--ink-2);
  cursor: pointer;
}
.over {
  position: absolute;
  pointer-events: none;
}
.selected {
  position: absolute;
  top: 0;
  bottom: 0;
  background: color-mix(in srgb, var(--c3) 16%, transparent);
  border: 1px solid var(--c3);
  border-width: 0 1px;
}
</style>
