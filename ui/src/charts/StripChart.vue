<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { client, unwrap, type Shapes } from '../api/client'
import { useProject } from '../state/project'
import { useView } from '../state/view'
import { themeVersion, token } from '../theme/theme'
import { hatch, timeLabels, type Pennant } from './lane'
import { useFetched } from './useLine'

const props = defineProps<{ origins?: number[]; pennants?: Pennant[]; rows?: number[] }>()
const store = useProject()
const view = useView()
const host = ref<HTMLDivElement>()
const canvas = ref<HTMLCanvasElement>()
const width = ref(1200)
const HEIGHT = 84

const { data: line } = useFetched<Shapes['Line']>(
  () => [store.dataset?.id, view.series, Math.round(width.value / 50)],
  (signal) => {
    if (!store.dataset) return null
    const params = {
      path: { dataset_id: store.dataset.id, series: view.series },
      query: { width: Math.max(Math.round(width.value), 10) },
    }
    return unwrap(client.GET('/api/v1/datasets/{dataset_id}/series/{series}/line', { params, signal }))
  },
)

const share = (time: number) => (time - view.extent[0]) / (view.extent[1] - view.extent[0] || 1)
const percent = (time: number) => `${Math.min(Math.max(share(time), 0), 1) * 100}%`
const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? view.extent[0])
const brush = computed(() => {
  const left = Math.max(share(view.span[0]), 0)
  const right = Math.min(share(view.span[1]), 1)
  return { left: `${left * 100}%`, width: `${Math.max(right - left, 0.002) * 100}%` }
})
const selected = computed(() => {
  if (!view.selection) return null
  const [low, high] = view.selection.map(share) as [number, number]
  return { left: `${low * 100}%`, width: `${Math.max(high - low, 0.001) * 100}%` }
})
const cutoffText = computed(() => store.axis?.text(cutoffTime.value) ?? '')

/** Lowest to highest value per pixel column, pale right of the cutoff. */
function draw() {
  const target = canvas.value
  if (!target || !line.value) return
  const ratio = window.devicePixelRatio || 1
  target.width = Math.round(width.value * ratio)
  target.height = HEIGHT * ratio
  const ctx = target.getContext('2d')
  if (!ctx) return
  const columns = target.width
  const lows = new Float64Array(columns).fill(Infinity)
  const highs = new Float64Array(columns).fill(-Infinity)
  const { times, values } = line.value
  // Decimated points come two per bucket; a bucket covers every pixel column it touches.
  const buckets = times.length / 2
  for (let i = 0; i < times.length; i++) {
    const value = values[i]
    if (value === null || value === undefined) continue
    const at = Math.min(Math.max(Math.floor(share(times[i] as number) * columns), 0), columns - 1)
    const from = line.value.exact ? at : Math.floor(((i >> 1) * columns) / buckets)
    const to = line.value.exact ? at : Math.max(Math.ceil((((i >> 1) + 1) * columns) / buckets) - 1, from)
    for (let column = from; column <= to; column++) {
      if (value < (lows[column] as number)) lows[column] = value
      if (value > (highs[column] as number)) highs[column] = value
    }
  }
  const bottom = Math.min(...lows)
  const top = Math.max(...highs)
  if (!Number.isFinite(bottom)) return
  const scale = (target.height - 12 * ratio) / (top - bottom || 1)
  const y = (value: number) => target.height - 4 * ratio - (value - bottom) * scale
  const edge = share(cutoffTime.value) * columns
  const few = times.length < columns / 2
  ctx.fillStyle = token('veil')
  ctx.fillRect(edge, 0, columns - edge, target.height)
  if (few) drawLine(ctx, times, values, columns, y, edge, ratio)
  else {
    for (let x = 0; x < columns; x++) {
      if (lows[x] === Infinity) continue
      ctx.fillStyle = token(x < edge ? 'ink-2' : 'ink-3')
      ctx.globalAlpha = x < edge ? 0.85 : 0.4
      ctx.fillRect(x, y(highs[x] as number), 1, Math.max(y(lows[x] as number) - y(highs[x] as number), ratio))
    }
    ctx.globalAlpha = 1
  }
  for (const [from, to] of store.maskSpans(view.key))
    hatch(ctx, share(from) * columns, 0, (share(to) - share(from)) * columns, target.height)
  ctx.fillStyle = token('ink-2')
  for (const origin of props.origins ?? []) {
    const x = share(store.axis?.time(origin - 1) ?? 0) * columns
    ctx.fillRect(x, target.height - 6 * ratio, ratio, 6 * ratio)
  }
  ctx.fillStyle = token('c1')
  for (const row of props.rows ?? []) ctx.fillRect(share(row) * columns - ratio, 0, 2 * ratio, 10 * ratio)
  ctx.fillStyle = token('ink')
  for (const each of props.pennants ?? []) {
    const x = share(each.start) * columns
    ctx.beginPath()
    ctx.moveTo(x, 0)
    ctx.lineTo(x + 5 * ratio, 3 * ratio)
    ctx.lineTo(x, 6 * ratio)
    ctx.fill()
  }
}

function drawLine(
  ctx: CanvasRenderingContext2D,
  times: number[],
  values: (number | null)[],
  columns: number,
  y: (v: number) => number,
  edge: number,
  ratio: number,
) {
  ctx.lineWidth = 1.25 * ratio
  ctx.beginPath()
  let open = false
  let pale = false
  ctx.strokeStyle = token('ink')
  values.forEach((value, i) => {
    if (value === null) return (open = false)
    const x = share(times[i] as number) * columns
    if (!pale && x > edge) {
      ctx.stroke()
      ctx.beginPath()
      ctx.strokeStyle = token('ink-3')
      pale = true
      open = false
    }
    if (open) ctx.lineTo(x, y(value))
    else ctx.moveTo(x, y(value))
    return (open = true)
  })
  ctx.stroke()
}

const labels = computed(() => {
  const axis = store.axis
  if (!axis) return []
  const [first, last] = view.extent
  const steps = [
    3600,
    6 * 3600,
    86400,
    7 * 86400,
    30.44 * 86400,
    91.3 * 86400,
    365.25 * 86400,
    5 * 365.25 * 86400,
  ]
  const increment = steps.find((each) => (last - first) / each <= 10) ?? 10 * 365.25 * 86400
  const marks: number[] = []
  for (let time = first; time <= last; time += increment) marks.push(time)
  const text = timeLabels(axis.grid.zone)(null as never, marks, 0, 0, increment) as string[]
  return marks.map((time, i) => ({ time, text: text[i] ?? '' })).filter((each) => share(each.time) < 0.96)
})

let frame = 0
function schedule() {
  cancelAnimationFrame(frame)
  frame = requestAnimationFrame(draw)
}
watch(
  [
    line,
    width,
    cutoffTime,
    themeVersion,
    () => store.dataset?.masks,
    () => props.origins,
    () => props.pennants,
    () => props.rows,
  ],
  schedule,
  { flush: 'post' },
)

function timeAt(event: PointerEvent): number {
  const box = host.value?.getBoundingClientRect()
  if (!box) return 0
  return view.extent[0] + ((event.clientX - box.left) / box.width) * (view.extent[1] - view.extent[0])
}

function follow(event: PointerEvent, move: (event: PointerEvent) => void) {
  const target = event.currentTarget as HTMLElement
  target.setPointerCapture(event.pointerId)
  const up = () => {
    target.removeEventListener('pointermove', move)
    target.removeEventListener('pointerup', up)
  }
  target.addEventListener('pointermove', move)
  target.addEventListener('pointerup', up)
}

function dragCutoff(event: PointerEvent) {
  event.stopPropagation()
  follow(event, (now) => view.setCutoff(store.axis?.known(timeAt(now)) ?? view.cutoff, true))
}

function dragBrush(event: PointerEvent) {
  const begun = timeAt(event)
  const [low, high] = view.span
  if (event.altKey)
    return follow(
      event,
      (now) => (view.selection = [Math.min(begun, timeAt(now)), Math.max(begun, timeAt(now))]),
    )
  const inside = begun >= low && begun <= high
  const shift = inside ? 0 : begun - (low + high) / 2
  view.setSpan(low + shift, high + shift)
  return follow(event, (now) =>
    view.setSpan(low + shift + timeAt(now) - begun, high + shift + timeAt(now) - begun),
  )
}

function zoom(event: WheelEvent) {
  const factor = Math.exp(Math.max(-1, Math.min(1, event.deltaY / 300)))
  const [low, high] = view.span
  const middle = (low + high) / 2
  view.setSpan(middle - ((high - low) / 2) * factor, middle + ((high - low) / 2) * factor)
}

let observer: ResizeObserver | null = null
onMounted(() => {
  observer = new ResizeObserver(() => (width.value = host.value?.clientWidth ?? width.value))
  if (host.value) observer.observe(host.value)
})
onBeforeUnmount(() => observer?.disconnect())
</script>

<template>
  <div class="strip">
    <div
      ref="host"
      class="plot panel"
      aria-label="The whole series"
      @pointerdown="dragBrush"
      @wheel.prevent="zoom"
      @dblclick="view.setSpan(...view.extent)"
    >
      <canvas ref="canvas" :style="{ width: width + 'px', height: HEIGHT + 'px' }"></canvas>
      <div class="brush" :style="brush"></div>
      <div v-if="selected" class="selected" :style="selected"></div>
      <div
        class="cutoff"
        role="slider"
        tabindex="0"
        aria-label="Cutoff: what is known"
        :aria-valuenow="view.cutoff"
        :aria-valuemin="1"
        :aria-valuemax="store.axis?.end ?? 1"
        :aria-valuetext="cutoffText"
        :style="{ left: percent(cutoffTime) }"
        @pointerdown="dragCutoff"
        @keydown.left.prevent="view.setCutoff(view.cutoff - 1, true)"
        @keydown.right.prevent="view.setCutoff(view.cutoff + 1, true)"
      >
        <i></i>
      </div>
    </div>
    <div class="labels number">
      <span v-for="each in labels" :key="each.time" :style="{ left: percent(each.time) }">{{
        each.text
      }}</span>
    </div>
  </div>
</template>

<style scoped>
.plot {
  position: relative;
  height: 86px;
  overflow: visible;
  touch-action: none;
  cursor: crosshair;
}
canvas {
  display: block;
  pointer-events: none;
}
.brush {
  position: absolute;
  top: 0;
  bottom: 0;
  border: 1.5px solid var(--ink);
  border-radius: 3px;
  pointer-events: none;
}
.selected {
  position: absolute;
  top: 0;
  bottom: 0;
  background: var(--selection);
  border: 1px dashed var(--ink-2);
  opacity: 0.7;
  pointer-events: none;
}
.cutoff {
  position: absolute;
  top: -6px;
  bottom: -4px;
  width: 13px;
  margin-left: -6.5px;
  cursor: ew-resize;
}
.cutoff::before {
  content: '';
  position: absolute;
  left: 6px;
  top: 0;
  bottom: 0;
  width: 1.5px;
  background: var(--cutoff);
}
.cutoff i {
  position: absolute;
  left: 1px;
  top: 0;
  width: 11px;
  height: 8px;
  border-radius: 2px;
  background: var(--cutoff);
}
.labels {
  position: relative;
  height: 18px;
  font-size: 12px;
  color: var(--ink-2);
  overflow: hidden;
}
.labels span {
  position: absolute;
  padding-left: 3px;
  border-left: 1px solid var(--hairline);
  white-space: nowrap;
}
</style>
