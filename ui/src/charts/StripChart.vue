<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useProject } from '../state/project'
import { useView } from '../state/view'
import { token } from '../theme/theme'
import { observedSeries, paint, type Pennant } from './lane'
import { aligned, valueRange } from './laneData'
import { drawMasks, drawVeil } from './laneMarks'
import { drawFlagTicks, drawOrigins, drawRows } from './stripMarks'
import { timeTicks } from './ticks'
import { useLane } from './useLane'
import { usePoints } from './useLine'

/** The whole series at once: what is in view as a frame, what is known left of the cutoff, which is dragged. */
const props = defineProps<{ origins?: number[]; pennants?: Pennant[]; rows?: number[] }>()
const store = useProject()
const view = useView()
const host = ref<HTMLDivElement>()
const picture = ref<HTMLDivElement>()
const { width } = useElementSize(host)

const { data: line } = usePoints(() =>
  width.value < 20 ? null : { width: Math.ceil(width.value / 50) * 50 },
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

const lines = computed(() => (line.value ? observedSeries(line.value, cutoffTime.value) : []))
useLane(picture, {
  options: (w, h) => ({
    width: w,
    height: h,
    padding: [6, 0, 4, 0],
    legend: { show: false },
    cursor: { show: false },
    axes: [{ show: false }, { show: false }],
    scales: { x: { time: true, range: () => [...view.extent] }, y: { range } },
    series: [
      {},
      ...observedSeries({ times: [], values: [] }, 0).map((each) => ({
        stroke: () => paint(each.color),
        width: each.width,
        pxAlign: 0,
        points: { show: false },
      })),
    ],
    hooks: {
      drawClear: [
        (u) => {
          drawVeil(u, cutoffTime.value)
          drawMasks(u, store.maskSpans(view.key))
        },
      ],
      draw: [
        (u) => {
          const times = (props.origins ?? []).map((origin) => store.axis?.time(origin - 1) ?? 0)
          drawOrigins(u, times, token('ink-2'))
          drawRows(u, props.rows ?? [], token('c1'))
          drawFlagTicks(u, props.pennants ?? [], token('ink'))
        },
      ],
    },
  }),
  data: () => aligned(lines.value, []),
  lines: () => lines.value,
  shape: () => lines.value.length,
  span: () => view.extent,
  marks: () => [store.dataset?.masks, props.origins, props.pennants, props.rows],
})
function range(): [number, number] {
  const more = { threshold: null, fromZero: false, robust: store.hasExtremes }
  const { low, high } = valueRange(lines.value, [], view.extent, more)
  return [low, high]
}
const labels = computed(() =>
  timeTicks(...view.extent, width.value, store.axis?.grid.zone ?? 'UTC').filter((each) => each.text),
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
      <div ref="picture" class="picture"></div>
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
      <span v-for="each in labels" :key="each.at" :style="{ left: percent(each.at) }">{{ each.text }}</span>
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
.picture {
  position: absolute;
  inset: 0;
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
  transform: translateX(-50%);
  white-space: nowrap;
}
</style>
