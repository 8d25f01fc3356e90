<script setup lang="ts">
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { fixed, decimalsFor } from '../state/format'
import { useProject } from '../state/project'
import { useView } from '../state/view'
import { themeVersion } from '../theme/theme'
import {
  axes,
  drawCutoff,
  drawFilled,
  drawMasks,
  drawPennants,
  drawVeil,
  paint,
  valueAt,
  type LaneBand,
  type LaneSeries,
  type Pennant,
} from './lane'
import { copyChart, copyTable } from './copy'

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
    knownUntil: null,
    filled: null,
  },
)
const emit = defineEmits<{ threshold: [value: number]; pick: [time: number] }>()

const HEAD = 24
const store = useProject()
const view = useView()
const host = ref<HTMLDivElement>()
let chart: uPlot | null = null
let observer: ResizeObserver | null = null

const cutoffTime = computed(() => props.knownUntil ?? (store.axis ? store.axis.time(view.cutoff - 1) : null))
const zone = computed(() => store.axis?.grid.zone ?? 'UTC')

function tables(): uPlot.AlignedData[] {
  const lines = props.series.map((each) => [each.points.times, each.points.values] as uPlot.AlignedData)
  const bands = props.bands.map((each) => [each.times, each.low, each.high] as uPlot.AlignedData)
  return [...bands, ...lines]
}

function data(): uPlot.AlignedData {
  const all = tables()
  if (!all.length) return [[]]
  return uPlot.join(
    all,
    all.map((table) => table.map(() => 1)),
  )
}

/** Lowest and highest visible value, with a little room. */
function valueRange(): [number, number] {
  const [from, to] = view.span
  let low = Infinity
  let high = -Infinity
  const take = (times: number[], values: (number | null)[]) => {
    for (let i = 0; i < times.length; i++) {
      const time = times[i] as number
      const value = values[i]
      if (time < from || time > to || value === null || value === undefined) continue
      if (value < low) low = value
      if (value > high) high = value
    }
  }
  for (const each of props.series) take(each.points.times, each.points.values)
  for (const each of props.bands) {
    take(each.times, each.low)
    take(each.times, each.high)
  }
  if (props.threshold !== null) high = Math.max(high, props.threshold)
  if (props.fromZero) low = Math.min(low, 0)
  if (!Number.isFinite(low)) return [0, 1]
  const room = (high - low || Math.abs(high) || 1) * 0.08
  return [props.fromZero && low >= 0 ? 0 : low - room, high + room]
}

function drawThreshold(u: uPlot) {
  if (props.threshold === null) return
  const y = u.valToPos(props.threshold, 'y', true)
  u.ctx.save()
  u.ctx.strokeStyle = paint('var(--ink)')
  u.ctx.setLineDash([6 * devicePixelRatio, 4 * devicePixelRatio])
  u.ctx.beginPath()
  u.ctx.moveTo(u.bbox.left, y)
  u.ctx.lineTo(u.bbox.left + u.bbox.width, y)
  u.ctx.stroke()
  u.ctx.restore()
}

function options(width: number, height: number): uPlot.Options {
  const bands = props.bands
  return {
    width,
    height,
    padding: [HEAD, 16, props.showTime ? 0 : 8, 0],
    legend: { show: false },
    cursor: {
      sync: { key: 'time', setSeries: false },
      drag: { setScale: false, x: false, y: false },
      points: { show: false },
    },
    tzDate: (time) => uPlot.tzDate(new Date(time * 1000), zone.value),
    scales: { x: { time: true, range: () => [...view.span] }, y: { range: () => valueRange() } },
    axes: axes(zone.value, props.unit, props.showTime),
    series: [
      {},
      ...bands.flatMap(() => [
        { width: 0, points: { show: false } },
        { width: 0, points: { show: false } },
      ]),
      ...props.series.map((each) => ({
        label: each.label,
        stroke: () => paint(each.color),
        width: each.width ?? 1.25,
        pxAlign: 0,
        dash: each.dash?.length ? each.dash : undefined,
        points: { show: () => dotsWanted(each.label), size: 4, fill: () => paint(each.color) },
      })),
    ],
    bands: bands.map((each, index) => ({
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
          drawThreshold(u)
          if (props.filled) drawFilled(u, props.filled)
          drawPennants(u, props.pennants)
          drawCutoff(u, cutoffTime.value)
        },
      ],
      setCursor: [read],
    },
  }
}

/** Single dots only where few points are in view. */
function dotsWanted(label: string): boolean {
  const each = props.series.find((one) => one.label === label)
  if (!each?.dots) return false
  const [from, to] = view.span
  let count = 0
  for (const time of each.points.times) if (time >= from && time <= to) count += 1
  return count < 150
}

function read(u: uPlot) {
  const left = u.cursor.left ?? -1
  if (left < 0) return
  const time = u.posToVal(left, 'x')
  view.hover = time
  const reach = (store.axis?.grid.seconds ?? 32 * 86400) * 1.01
  const decimals = decimalsFor(props.series.flatMap((each) => each.points.values.slice(0, 50)))
  const rows = props.series
    .map((each) => ({ each, value: valueAt(each.points, time, reach) }))
    .filter((row) => row.value !== null)
    .map((row) => ({
      label: row.each.label,
      value: `${fixed(row.value, decimals)} ${props.unit}`,
      color: row.each.color,
    }))
  view.readings = { ...view.readings, [props.name]: rows }
}

function rebuild() {
  if (!host.value) return
  chart?.destroy()
  const { clientWidth, clientHeight } = host.value
  if (clientWidth < 20 || clientHeight < 20) return
  chart = new uPlot(options(clientWidth, clientHeight), data(), host.value)
  attach(chart.over)
}

/** Wheel zooms at the pointer, drag pans, Alt-drag selects, double click shows all. */
function attach(over: HTMLDivElement) {
  const timeAt = (event: MouseEvent) =>
    chart?.posToVal(event.clientX - over.getBoundingClientRect().left, 'x') ?? 0
  over.addEventListener(
    'wheel',
    (event) => {
      event.preventDefault()
      const at = timeAt(event)
      const factor = Math.exp(Math.max(-1, Math.min(1, event.deltaY / 300)))
      view.setSpan(at - (at - view.span[0]) * factor, at + (view.span[1] - at) * factor)
    },
    { passive: false },
  )
  over.addEventListener('dblclick', () => view.setSpan(...view.extent))
  over.addEventListener('pointerdown', (event) => {
    if (event.button !== 0 || !chart) return
    over.setPointerCapture(event.pointerId)
    const begun = timeAt(event)
    const [low, high] = view.span
    const scale = (high - low) / over.clientWidth
    const x = event.clientX
    const y = event.clientY
    const onThreshold =
      props.threshold !== null &&
      Math.abs(chart.valToPos(props.threshold, 'y') - (y - over.getBoundingClientRect().top)) < 8
    let moved = false
    const move = (now: PointerEvent) => {
      moved ||= Math.abs(now.clientX - x) + Math.abs(now.clientY - y) > 3
      if (onThreshold && chart)
        emit('threshold', chart.posToVal(now.clientY - over.getBoundingClientRect().top, 'y'))
      else if (event.altKey) view.selection = [Math.min(begun, timeAt(now)), Math.max(begun, timeAt(now))]
      else if (moved) view.setSpan(low - (now.clientX - x) * scale, high - (now.clientX - x) * scale)
    }
    const up = () => {
      over.removeEventListener('pointermove', move)
      over.removeEventListener('pointerup', up)
      if (!moved) emit('pick', begun)
    }
    over.addEventListener('pointermove', move)
    over.addEventListener('pointerup', up)
  })
}

const shape = computed(() =>
  [props.series.map((s) => [s.label, s.color, s.dash?.join()]), props.bands.length].toString(),
)
let frame = 0
function redraw() {
  cancelAnimationFrame(frame)
  frame = requestAnimationFrame(() => chart?.setData(data(), true))
}
watch([shape, () => props.showTime, zone, themeVersion], rebuild, { flush: 'post' })
watch(() => [props.series, props.bands, props.pennants], redraw, { flush: 'post' })
watch(
  () => view.span,
  () => chart?.setScale('x', { min: view.span[0], max: view.span[1] }),
)
watch([cutoffTime, () => props.threshold], () => chart?.redraw(false, true))

const selectionStyle = computed(() => {
  if (!view.selection || !host.value) return null
  const [low, high] = view.span
  const at = (time: number) => ((time - low) / (high - low)) * 100
  if (at(view.selection[1]) <= 0 || at(view.selection[0]) >= 100) return null
  const left = Math.max(at(view.selection[0]), 0)
  return { left: `${left}%`, width: `${Math.max(Math.min(at(view.selection[1]), 100) - left, 0)}%` }
})

onMounted(() => {
  rebuild()
  observer = new ResizeObserver(() => {
    if (!host.value) return
    if (!chart) rebuild()
    else chart.setSize({ width: host.value.clientWidth, height: host.value.clientHeight })
  })
  if (host.value) observer.observe(host.value)
})
onBeforeUnmount(() => {
  observer?.disconnect()
  chart?.destroy()
  const rest = { ...view.readings }
  delete rest[props.name]
  view.readings = rest
})
</script>

<template>
  <section class="lane panel" :aria-label="title || name" :aria-busy="busy">
    <header>
      <span class="note">{{ note }}</span>
      <span class="what">
        {{ title }}<template v-if="unit">&nbsp;{{ unit }}</template>
        <button
          class="copy"
          title="Copy the chart as PNG"
          aria-label="Copy the chart as PNG"
          @click="copyChart(host)"
        >
          PNG
        </button>
        <button
          class="copy"
          title="Copy the values as CSV"
          aria-label="Copy the values as CSV"
          @click="copyTable(series)"
        >
          CSV
        </button>
      </span>
    </header>
    <div ref="host" class="host"></div>
    <div class="over"><div v-if="selectionStyle" class="selected" :style="selectionStyle"></div></div>
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
header {
  position: absolute;
  z-index: 2;
  inset: 3px 10px auto 60px;
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
.copy {
  pointer-events: auto;
  border: 0;
  background: none;
  color: var(--ink-2);
  font-size: 12px;
  padding: 0 2px 0 6px;
  cursor: pointer;
  opacity: 0;
}
.lane:hover .copy,
.copy:focus-visible {
  opacity: 1;
}
.over {
  position: absolute;
  inset: 24px 16px 8px 56px;
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
