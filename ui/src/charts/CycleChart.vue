<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { number } from '../state/format'
import { themeVersion, token } from '../theme/theme'
import { extent, ticks, tickText } from './scale'

/** One line per cycle, laid over each other by phase; the chosen one in ink, earlier ones paler. */
const props = defineProps<{
  title: string
  phases: string[]
  lines: { label: string; values: (number | null)[] }[]
  chosen: number
  hidden: string[]
}>()
const emit = defineEmits<{ choose: [index: number] }>()
const host = ref<HTMLElement>()
const canvas = ref<HTMLCanvasElement>()
const { width, height } = useElementSize(host)
const LEFT = 50
const BOTTOM = 20
const TOP = 6
const hover = ref<number | null>(null)

const shown = computed(() =>
  props.lines.map((each, i) => ({ ...each, i })).filter((each) => !props.hidden.includes(each.label)),
)
const range = computed(() => {
  const [low, high] = extent(shown.value.flatMap((each) => each.values))
  const room = (high - low || 1) * 0.05
  return [low - room, high + room] as [number, number]
})
const bottom = computed(() => Math.max(height.value - BOTTOM, 20))
const x = (phase: number) => LEFT + (phase / Math.max(props.phases.length - 1, 1)) * (width.value - LEFT - 10)
const y = (value: number) =>
  bottom.value - ((value - range.value[0]) / (range.value[1] - range.value[0])) * (bottom.value - TOP)
const yTicks = computed(() =>
  ticks(range.value[0], range.value[1], Math.max(Math.floor(height.value / 40), 2)),
)
const apart = computed(() =>
  yTicks.value.length > 1 ? (yTicks.value[1] as number) - (yTicks.value[0] as number) : 1,
)
const xTicks = computed(() => {
  const longest = Math.max(1, ...props.phases.map((each) => each.length))
  const every = Math.max(
    1,
    Math.ceil((props.phases.length * (longest + 2) * 7.5) / Math.max(width.value - LEFT, 50)),
  )
  return props.phases.map((label, i) => ({ label, i })).filter((each) => each.i % every === 0)
})
const note = computed(() => {
  const phase = hover.value
  const line = props.lines[props.chosen]
  if (phase === null || !line) return ''
  return `${line.label}, ${props.phases[phase]}: ${number(line.values[phase] ?? null)}`
})

function draw() {
  const target = canvas.value
  if (!target || !width.value) return
  const ratio = window.devicePixelRatio || 1
  target.width = Math.round(width.value * ratio)
  target.height = Math.round(height.value * ratio)
  const ctx = target.getContext('2d')
  if (!ctx) return
  ctx.scale(ratio, ratio)
  const many = shown.value.length
  const paint = (values: (number | null)[], color: string, alpha: number, size: number) => {
    ctx.strokeStyle = color
    ctx.globalAlpha = alpha
    ctx.lineWidth = size
    ctx.beginPath()
    let open = false
    values.forEach((value, phase) => {
      if (value === null) return (open = false)
      if (open) ctx.lineTo(x(phase), y(value))
      else ctx.moveTo(x(phase), y(value))
      return (open = true)
    })
    ctx.stroke()
  }
  const faint = Math.min(Math.max(14 / Math.max(many, 1), 0.06), 0.6)
  for (const each of shown.value) if (each.i !== props.chosen) paint(each.values, token('c3'), faint, 1)
  const chosen = props.lines[props.chosen]
  if (chosen && !props.hidden.includes(chosen.label)) paint(chosen.values, token('ink'), 1, 1.75)
  ctx.globalAlpha = 1
}
watch([shown, () => props.chosen, width, height, themeVersion], draw, { flush: 'post' })

function phaseAt(event: PointerEvent): number {
  const left = event.clientX - (host.value?.getBoundingClientRect().left ?? 0)
  const share = (left - LEFT) / (width.value - LEFT - 10)
  return Math.min(Math.max(Math.round(share * (props.phases.length - 1)), 0), props.phases.length - 1)
}
/** The cycle whose line runs nearest to the pointer becomes the chosen one. */
function pick(event: PointerEvent) {
  const phase = phaseAt(event)
  const top = event.clientY - (host.value?.getBoundingClientRect().top ?? 0)
  let best = -1
  let least = Infinity
  for (const each of shown.value) {
    const value = each.values[phase]
    if (value === null || value === undefined) continue
    const gap = Math.abs(y(value) - top)
    if (gap < least) [best, least] = [each.i, gap]
  }
  if (best >= 0) emit('choose', best)
}
</script>

<template>
  <figure class="chart">
    <figcaption>
      <span>{{ title }}</span><span class="number">{{ note }}</span>
    </figcaption>
    <div
      ref="host"
      class="host"
      @pointermove="hover = phaseAt($event)"
      @pointerleave="hover = null"
      @click="pick($event as PointerEvent)"
    >
      <svg :width="width" :height="height" aria-hidden="true">
        <g v-for="tick in yTicks" :key="tick">
          <line class="grid" :x1="LEFT" :x2="width - 10" :y1="y(tick)" :y2="y(tick)" />
          <text class="number" :x="LEFT - 6" :y="y(tick) + 4" text-anchor="end">
            {{ tickText(tick, apart) }}
          </text>
        </g>
        <text
          v-for="tick in xTicks"
          :key="tick.i"
          class="number"
          :x="x(tick.i)"
          :y="bottom + 15"
          :text-anchor="tick.i === 0 ? 'start' : 'middle'"
        >
          {{ tick.label }}
        </text>
        <line v-if="hover !== null" class="cursor" :x1="x(hover)" :x2="x(hover)" :y1="TOP" :y2="bottom" />
      </svg>
      <canvas ref="canvas" :aria-label="title" role="img"></canvas>
    </div>
  </figure>
</template>

<style scoped>
.chart {
  margin: 0;
  min-width: 0;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
figcaption {
  display: flex;
  justify-content: space-between;
  font-size: 12px;
  color: var(--ink-2);
}
.host {
  flex: 1;
  min-height: 80px;
  position: relative;
}
svg,
canvas {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
}
canvas {
  pointer-events: none;
}
text {
  font-size: 12px;
  fill: var(--ink-2);
}
.grid {
  stroke: var(--hairline);
}
.cursor {
  stroke: var(--ink-3);
  stroke-dasharray: 2 3;
}
</style>
