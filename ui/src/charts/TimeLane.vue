<script setup lang="ts">
import type uPlot from 'uplot'
import { computed, ref, shallowRef } from 'vue'
import { decimalsFor, fixed } from '../state/format'
import type { Answer } from '../state/answers'
import { useProject } from '../state/project'
import { useView } from '../state/view'
import AnswerNote from '../widgets/AnswerNote.vue'
import { copyPlot } from './copy'
import { AXIS_WIDTH, paint, RIGHT, valueAt, type LaneBand, type LaneSeries, type Pennant } from './lane'
import { axes } from './laneAxes'
import { aligned, laneRows, valueRange } from './laneData'
import { attachGestures } from './laneGestures'
import {
  drawCutoff,
  drawFilled,
  drawLeaving,
  drawMasks,
  drawPennants,
  drawThreshold,
  drawVeil,
} from './laneMarks'
import { laneSvg } from './laneSvg'
import { chartMenu } from './menu'
import { useReadout } from './readout'
import { useLane } from './useLane'

/** Lines and ranges on the time axis, linked with all other lanes. */
const props = withDefaults(
  defineProps<{
    name: string
    title?: string
    note?: string
    unit?: string
    series: LaneSeries[]
    bands?: LaneBand[]
    pennants?: Pennant[]
    showTime?: boolean
    threshold?: number | null
    fromZero?: boolean
    busy?: boolean
    /** Where the lines come from: what is said while they are on their way, or cannot be had. */
    answer?: Answer | null
    /** Where the known ends, when it is not the cutoff (epoch seconds). */
    knownUntil?: number | null
    /** The observed line, for the dots of filled points. */
    filled?: { times: number[]; values: (number | null)[]; filled?: number[] } | null
  }>(),
  {
    title: '',
    note: '',
    unit: '',
    bands: () => [],
    pennants: () => [],
    showTime: false,
    threshold: null,
    fromZero: false,
    busy: false,
    answer: null,
    knownUntil: null,
    filled: null,
  },
)
const emit = defineEmits<{ threshold: [value: number]; pick: [time: number] }>()

const HEAD = 24
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
/** Single dots only where few points are in view. */
function dotsWanted(each: LaneSeries): boolean {
  if (!each.dots) return false
  const [from, to] = view.span
  let count = 0
  for (const time of each.points.times) if (time >= from && time <= to) count += 1
  return count < 150
}

function options(width: number, height: number): uPlot.Options {
  const edge = { width: 0, points: { show: false } }
  return {
    width,
    height,
    padding: [HEAD, RIGHT, props.showTime ? 0 : 8, 0],
    legend: { show: false },
    cursor: {
      sync: { key: 'time', setSeries: false },
      drag: { setScale: false, x: false, y: false },
      points: { show: false },
    },
    scales: { x: { time: true, range: () => [...view.span] }, y: { range } },
    axes: axes(zone.value, props.showTime, (note) => (offset.value = note)),
    series: [
      {},
      ...props.bands.flatMap(() => [edge, edge]),
      ...props.series.map((each, i) => ({
        label: each.label,
        stroke: () => paint(each.color),
        width: each.width ?? 1.25,
        pxAlign: 0,
        dash: each.dash?.length ? each.dash : undefined,
        points: {
          show: () => dotsWanted(props.series[i] ?? each),
          size: 4,
          fill: () => paint(each.color),
        },
      })),
    ],
    bands: props.bands.map((each, index) => ({
      series: [2 + 2 * index, 1 + 2 * index] as [number, number],
      fill: () => `color-mix(in srgb, ${paint(each.color)} ${each.alpha * 100}%, transparent)`,
    })),
    hooks: {
      drawClear: [
        (u) => {
          drawVeil(u, cutoffTime.value)
          drawMasks(u, store.maskSpans(view.key))
        },
      ],
      draw: [
        (u) => {
          drawThreshold(u, props.threshold)
          if (props.filled) drawFilled(u, props.filled)
          if (robust.value && flattened.value) drawLeaving(u, props.series)
          drawPennants(u, props.pennants)
          drawCutoff(u, cutoffTime.value)
        },
      ],
      setCursor: [(u) => (u.cursor.left ?? -1) >= 0 && read(u.posToVal(u.cursor.left ?? 0, 'x'))],
    },
  }
}

const { tell } = useReadout(() => props.name)
function read(time: number) {
  view.hover = time
  const reach = (store.axis?.grid.seconds ?? 32 * 86400) * 1.01
  const decimals = decimalsFor(props.series.flatMap((each) => each.points.values.slice(0, 50)))
  tell(
    props.series.flatMap((each) => {
      const value = valueAt(each.points, time, reach)
      return value === null
        ? []
        : [{ label: each.label, value: `${fixed(value, decimals)} ${props.unit}`, color: each.color }]
    }),
  )
}
/** Arrow keys move along the grid, and the readout with them; the view follows. */
function step(by: number) {
  const axis = store.axis
  if (!axis) return
  const now = view.hover === null ? view.cutoff - 1 : axis.position(view.hover + 1e-6)
  const time = axis.time(Math.min(Math.max(now + by, 0), axis.end - 1))
  if (time < view.span[0] || time > view.span[1]) {
    const half = (view.span[1] - view.span[0]) / 2
    view.setSpan(time - half, time + half)
  }
  const u = chart()
  if (u) u.setCursor({ left: u.valToPos(time, 'x'), top: 10 })
  read(time)
}

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
  marks: () => [cutoffTime.value, props.threshold, props.pennants, robust.value, store.dataset?.masks],
  built: (u) =>
    attachGestures(u, view, {
      threshold: () => props.threshold,
      setThreshold: (value) => emit('threshold', value),
      pick: (time) => emit('pick', time),
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
        <button class="corner" aria-label="Take this chart" title="Copy as PNG, SVG or CSV" @click="menu">
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
