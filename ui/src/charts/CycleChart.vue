<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { number } from '../state/format'
import { themeVersion, token } from '../theme/theme'
import ChartFrame from './ChartFrame.vue'
import { extent, FRAME } from './scale'

/** One line per cycle, laid over each other by phase; the chosen one in ink, the others pale. */
const props = defineProps<{
  title: string
  phases: string[]
  lines: { label: string; values: (number | null)[] }[]
  chosen: number
  hidden: string[]
}>()
const emit = defineEmits<{ choose: [index: number] }>()
const canvas = ref<HTMLCanvasElement>()
const size = ref({ width: 0, height: 0 })
const hover = ref<number | null>(null)

const shown = computed(() =>
  props.lines.map((each, i) => ({ ...each, i })).filter((each) => !props.hidden.includes(each.label)),
)
const range = computed(() => {
  const [low, high] = extent(shown.value.flatMap((each) => each.values))
  const room = (high - low || 1) * 0.05
  return [low - room, high + room] as [number, number]
})
const bottom = computed(() => Math.max(size.value.height - FRAME.bottom, FRAME.top + 10))
const x = (phase: number) =>
  FRAME.left + (phase / Math.max(props.phases.length - 1, 1)) * (size.value.width - FRAME.left - FRAME.right)
const y = (value: number) =>
  bottom.value - ((value - range.value[0]) / (range.value[1] - range.value[0])) * (bottom.value - FRAME.top)
const xTicks = computed(() => {
  const longest = Math.max(1, ...props.phases.map((each) => each.length))
  const room = Math.max(size.value.width - FRAME.left, 50)
  const every = Math.max(1, Math.ceil((props.phases.length * (longest + 2) * 7.5) / room))
  return props.phases.map((label, i) => ({ label, i })).filter((each) => each.i % every === 0)
})
const rows = () =>
  shown.value.flatMap((each) =>
    each.values.map((value, phase) => [each.label, props.phases[phase] ?? '', value] as const),
  )
const note = computed(() => {
  const phase = hover.value
  const line = props.lines[props.chosen]
  if (phase === null || !line) return ''
  return `${line.label}, ${props.phases[phase]}: ${number(line.values[phase] ?? null)}`
})

function draw() {
  const target = canvas.value
  if (!target || !size.value.width) return
  const ratio = window.devicePixelRatio || 1
  target.width = Math.round(size.value.width * ratio)
  target.height = Math.round(size.value.height * ratio)
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
watch([shown, () => props.chosen, size, themeVersion], draw, { flush: 'post' })

function phaseAt(event: PointerEvent): number {
  const left = event.clientX - (canvas.value?.getBoundingClientRect().left ?? 0)
  const share = (left - FRAME.left) / (size.value.width - FRAME.left - FRAME.right)
  return Math.min(Math.max(Math.round(share * (props.phases.length - 1)), 0), props.phases.length - 1)
}
/** The cycle whose line runs nearest to the pointer becomes the chosen one. */
function pick(event: PointerEvent) {
  const phase = phaseAt(event)
  const top = event.clientY - (canvas.value?.getBoundingClientRect().top ?? 0)
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
  <ChartFrame
    v-model:size="size"
    :title="title"
    :note="note"
    :range="range"
    :head="['cycle', 'phase', 'value']"
    :rows="rows"
  >
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
    <line v-if="hover !== null" class="cursor" :x1="x(hover)" :x2="x(hover)" :y1="FRAME.top" :y2="bottom" />
    <template #over>
      <canvas
        ref="canvas"
        aria-hidden="true"
        @pointermove="hover = phaseAt($event)"
        @pointerleave="hover = null"
        @click="pick($event as PointerEvent)"
      ></canvas>
    </template>
  </ChartFrame>
</template>

<style scoped>
canvas {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
}
.cursor {
  stroke: var(--ink-3);
  stroke-dasharray: 2 3;
}
</style>
