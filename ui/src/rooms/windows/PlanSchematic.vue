<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Shapes } from '../../api/client'
import { useProject } from '../../state/project'
import { number } from '../../state/format'
import type { Plan } from './planText'

/** One row drawn to scale in time: the series, what the row reads left of its origin, what it is asked for right of it.
 *
 * Lags are swept on and off, edges of rolling spans and of the horizon are dragged; all of it by keys as well.
 */
const props = defineProps<{
  sources: Shapes['SourceView'][]
  plan: Plan
  lit: string | null
  origin: number
  line: { start: number; values: (number | null)[] }
  label: string
}>()
const emit = defineEmits<{ light: [name: string | null]; change: [plan: Plan] }>()
const store = useProject()
const W = 1000
const LEFT = 110
const TOP = 52
const svg = ref<SVGSVGElement>()

/** What a drag would make of the plan, shown while the pointer is down. */
const sketch = ref<Plan | null>(null)
const now = computed(() => sketch.value ?? props.plan)
const back = ref(24)
const ahead = computed(() => Math.max(1, ...(props.plan.horizon ?? [1])))
const wanted = computed(() => {
  const others = props.sources.filter((each) => !each.whole && !['lags', 'rolling'].includes(each.kind))
  const rolling = (props.plan.rolling ?? []).map((each) => each.window)
  return Math.max(
    24,
    ...others.map((each) => -each.first + 1),
    ...rolling,
    ...((props.plan.lags ?? []) as number[]),
  )
})
/** The scale stays while something is dragged. */
const reach = computed(() => (sketch.value ? back.value : Math.ceil(wanted.value * 1.12)))
/** Steps drawn after the origin: the horizon, and room for its label. */
const room = computed(() => {
  const label = (props.plan.recursive ? 130 : 70) / (W - LEFT - 12)
  return Math.max(Math.ceil((ahead.value + label * reach.value) / (1 - label)), Math.ceil(reach.value / 8))
})
const cell = computed(() => (W - LEFT - 12) / (reach.value + room.value))
const x = (step: number) => LEFT + (reach.value + step) * cell.value

const KINDS: [string, string, string][] = [
  ['change', 'changes', 'var(--c3)'],
  ['weighted', 'weighted', 'var(--c4)'],
  ['expanding', 'so far', 'var(--c4)'],
  ['since', 'since', 'var(--c8)'],
  ['calendar', 'calendar', 'var(--c5)'],
  ['fourier', 'waves', 'var(--c5)'],
  ['occasion', 'occasions', 'var(--c7)'],
  ['covariate', 'covariates', 'var(--c6)'],
  ['static', 'static', 'var(--c8)'],
]
const others = computed(() =>
  KINDS.map(([kind, title, color]) => ({
    kind,
    title,
    color,
    items: props.sources.filter((each) => each.kind === kind),
  })).filter((lane) => lane.items.length),
)
const rolling = computed(() =>
  (now.value.rolling ?? []).map((each, place) => {
    const level = each.level == null ? '' : ` ${each.level}`
    const known = each.least == null ? '' : ` of ${each.least}`
    return { place, window: each.window, name: `${each.statistic}${level} ${each.window}${known}` }
  }),
)
const widths = computed(() => [...new Set(rolling.value.map((each) => each.window))].sort((a, b) => b - a))
const rollingHeight = computed(() => Math.max(16, Math.min(widths.value.length, 4) * 6 + 4))
const lagsTop = TOP
const rollingTop = TOP + 18
const othersTop = computed(() => rollingTop + (rolling.value.length ? rollingHeight.value + 2 : 0))
const targetTop = computed(() => othersTop.value + others.value.length * 18)
const height = computed(() => targetTop.value + 18 + 24)

const marks = computed(() => {
  const season = Math.round(store.axis?.grid.seasons[0] ?? 12)
  const every = Math.max(season, Math.ceil(reach.value / 6 / season) * season)
  const out: number[] = []
  for (let step = -every; step > -reach.value; step -= every) out.push(step)
  return out
})

/** The series in view as path data, known and not yet known. */
const curve = computed(() => {
  const { start, values } = props.line
  const from = props.origin - reach.value + 1
  const to = props.origin + room.value
  const shown: [number, number][] = []
  for (let at = from; at <= to; at++) {
    const value = values[at - start]
    if (value !== null && value !== undefined) shown.push([at - props.origin, value])
  }
  const low = Math.min(...shown.map((each) => each[1]))
  const high = Math.max(...shown.map((each) => each[1]))
  const y = (value: number) => (high > low ? 44 - ((value - low) / (high - low)) * 38 : 25)
  const path = (points: [number, number][]) => {
    let text = ''
    let previous = NaN
    for (const [step, value] of points) {
      text += `${step === previous + 1 ? 'L' : 'M'}${(x(step) - cell.value / 2).toFixed(1)} ${y(value).toFixed(1)}`
      previous = step
    }
    return text
  }
  const known = shown.filter(([step]) => step <= 0)
  const source = props.sources.find((each) => each.name === props.lit)
  const read = source ? shown.filter(([s]) => s >= source.first && s <= source.last) : []
  return {
    known: path(known),
    coming: path(shown.filter(([step]) => step >= 0)),
    read: path(read),
    dots:
      read.length && read.length <= 60 ? read.map(([s, v]) => [x(s) - cell.value / 2, y(v)] as const) : [],
    range: shown.length ? `${number(low, 3)} … ${number(high, 3)}` : '',
  }
})

function box(item: Shapes['SourceView'], kind: string) {
  const atTarget = kind === 'calendar' || kind === 'fourier' || kind === 'static' || kind === 'occasion'
  const first = atTarget ? (props.plan.horizon?.[0] ?? 1) : Math.max(item.first, 1 - reach.value)
  const last = atTarget ? first : Math.min(item.last, room.value)
  return {
    x: x(first - 1) + 0.4,
    width: Math.max((last - first + 1) * cell.value - 0.8, 2),
    y: 0,
    height: 12,
  }
}

// dragging

function stepAt(event: PointerEvent) {
  const frame = svg.value?.getBoundingClientRect()
  if (!frame) return 0
  return Math.floor((((event.clientX - frame.left) / frame.width) * W - LEFT) / cell.value - reach.value) + 1
}
function drag(event: PointerEvent, move: (step: number) => Plan) {
  const mark = event.currentTarget as Element
  mark.setPointerCapture(event.pointerId)
  back.value = reach.value
  sketch.value = move(stepAt(event))
  const onMove = (next: Event) => (sketch.value = move(stepAt(next as PointerEvent)))
  const onUp = () => {
    mark.removeEventListener('pointermove', onMove)
    const made = sketch.value
    sketch.value = null
    if (made && JSON.stringify(made) !== JSON.stringify(props.plan)) emit('change', made)
  }
  mark.addEventListener('pointermove', onMove)
  mark.addEventListener('pointerup', onUp, { once: true })
  mark.addEventListener('pointercancel', () => ((sketch.value = null), onUp()), { once: true })
}
const withLags = (lags: Set<number>): Plan => ({ ...props.plan, lags: [...lags].sort((a, b) => a - b) })

function sweepLags(event: PointerEvent) {
  const before = new Set((props.plan.lags ?? []) as number[])
  const first = Math.max(1 - stepAt(event), 1)
  const adding = !before.has(first)
  drag(event, (step) => {
    const lags = new Set(before)
    const last = Math.max(1 - step, 1)
    for (let lag = Math.min(first, last); lag <= Math.max(first, last); lag++)
      if (adding) lags.add(lag)
      else lags.delete(lag)
    return withLags(lags)
  })
}
const LEAST: Record<string, number> = { std: 2, slope: 2 }
function widened(place: number, window: number): Plan {
  const list = [...(props.plan.rolling ?? [])]
  const each = list[place]
  if (!each) return props.plan
  list[place] = { ...each, window: Math.max(window, LEAST[each.statistic] ?? 1, each.least ?? 1) }
  const names = new Set(list.map((r) => `${r.statistic} ${r.level} ${r.window} ${r.least}`))
  return names.size === list.length ? { ...props.plan, rolling: list } : props.plan
}
const dragSpan = (event: PointerEvent, place: number) => drag(event, (step) => widened(place, 1 - step))
function farther(step: number): Plan {
  const horizon = (props.plan.horizon ?? [1]) as number[]
  const last = Math.max(step, 1)
  if (horizon.length === 1 && horizon[0] !== 1) return { ...props.plan, horizon: [last] }
  return { ...props.plan, horizon: Array.from({ length: last }, (_, i) => i + 1), recursive: false }
}
const dragHorizon = (event: PointerEvent) => drag(event, farther)

// keys

const cursor = ref(1)
const onLags = ref(false)
function lagKeys(event: KeyboardEvent) {
  const moves: Record<string, number> = { ArrowLeft: 1, ArrowRight: -1, PageUp: 24, PageDown: -24 }
  if (event.key in moves) {
    const from = cursor.value
    cursor.value = Math.max(1, from + (moves[event.key] ?? 0))
    if (event.shiftKey) {
      const lags = new Set((props.plan.lags ?? []) as number[])
      const adding = lags.has(from)
      if (adding) lags.add(cursor.value)
      else lags.delete(cursor.value)
      emit('change', withLags(lags))
    }
  } else if (event.key === ' ' || event.key === 'Enter') {
    const lags = new Set((props.plan.lags ?? []) as number[])
    if (!lags.delete(cursor.value)) lags.add(cursor.value)
    emit('change', withLags(lags))
  } else return
  event.preventDefault()
}
function spanKeys(event: KeyboardEvent, place: number) {
  const window = props.plan.rolling?.[place]?.window ?? 1
  if (event.key === 'ArrowLeft') emit('change', widened(place, window + (event.shiftKey ? 24 : 1)))
  else if (event.key === 'ArrowRight')
    emit('change', widened(place, Math.max(1, window - (event.shiftKey ? 24 : 1))))
  else if (event.key === 'Delete' || event.key === 'Backspace')
    emit('change', { ...props.plan, rolling: (props.plan.rolling ?? []).filter((_, i) => i !== place) })
  else return
  event.preventDefault()
}
function horizonKeys(event: KeyboardEvent) {
  if (event.key === 'ArrowRight') emit('change', farther(ahead.value + (event.shiftKey ? 24 : 1)))
  else if (event.key === 'ArrowLeft') emit('change', farther(ahead.value - (event.shiftKey ? 24 : 1)))
  else return
  event.preventDefault()
}
</script>

<template>
  <svg
    ref="svg"
    class="schematic"
    :viewBox="`0 0 ${W} ${height}`"
    aria-label="One row of the table, drawn to scale"
    @mouseleave="emit('light', null)"
  >
    <rect class="veil" :x="x(0)" y="0" :width="W - x(0)" :height="height" />
    <text x="12" y="22">
      {{ label.length > 16 ? label.slice(0, 15) + '…' : label }}
      <title>{{ label }}</title>
    </text>
    <text x="12" y="38" class="number">{{ curve.range }}</text>
    <path class="coming" :d="curve.coming" />
    <path class="known" :d="curve.known" />
    <path class="read" :d="curve.read" />
    <circle v-for="(dot, i) in curve.dots" :key="i" class="dot" :cx="dot[0]" :cy="dot[1]" r="2.5" />

    <g :transform="`translate(0 ${lagsTop})`">
      <text x="12" y="11">lags</text>
      <rect
        v-for="lag in now.lags ?? []"
        :key="lag"
        class="lag"
        :class="{ lit: `lag ${lag}` === lit }"
        :x="x(-lag) + 0.4"
        y="1"
        :width="Math.max(cell - 0.8, 1)"
        height="12"
      />
      <rect
        class="hit"
        :x="LEFT"
        y="0"
        :width="x(0) - LEFT"
        height="14"
        tabindex="0"
        role="slider"
        :aria-valuenow="cursor"
        aria-label="Lags: arrows move, space adds or removes, shift with arrows sweeps"
        @pointerdown="sweepLags"
        @pointermove="emit('light', `lag ${Math.max(1 - stepAt($event), 1)}`)"
        @focus="onLags = true"
        @blur="onLags = false"
        @keydown="lagKeys"
      >
        <title>Click or sweep to add or remove lags; space and arrows do the same</title>
      </rect>
      <rect v-if="onLags" class="cursor" :x="x(-cursor)" y="-1" :width="Math.max(cell, 2)" height="16" />
    </g>

    <g v-if="rolling.length" :transform="`translate(0 ${rollingTop})`">
      <text x="12" y="11">rolling</text>
      <g v-for="each in rolling" :key="each.place" @mouseenter="emit('light', each.name)">
        <rect
          class="span"
          :class="{ lit: each.name === lit }"
          :x="x(-each.window) + 0.4"
          :y="1 + Math.min(widths.indexOf(each.window), 3) * 6"
          :width="Math.max(each.window * cell - 0.8, 2)"
          height="5"
        />
        <rect
          class="edge"
          :x="x(-each.window) - 4"
          :y="Math.min(widths.indexOf(each.window), 3) * 6"
          width="9"
          height="7"
          tabindex="0"
          role="slider"
          :aria-valuenow="each.window"
          :aria-label="`${each.name}: arrows move its edge, delete takes it out`"
          @pointerdown="dragSpan($event, each.place)"
          @keydown="spanKeys($event, each.place)"
        >
          <title>{{ each.name }}: drag its edge</title>
        </rect>
      </g>
    </g>

    <g v-for="(lane, row) in others" :key="lane.kind" :transform="`translate(0 ${othersTop + row * 18})`">
      <text x="12" y="11">{{ lane.title }}</text>
      <rect
        v-for="item in lane.items"
        :key="item.name"
        v-bind="box(item, lane.kind)"
        :fill="lane.color"
        :class="{ lit: item.name === lit }"
        @mouseenter="emit('light', item.name)"
      >
        <title>
          {{ item.name }}:
          {{ item.first === item.last ? `step ${item.first}` : `steps ${item.first} … ${item.last}` }} from
          the origin
        </title>
      </rect>
    </g>

    <g :transform="`translate(0 ${targetTop})`">
      <text x="12" y="11">target</text>
      <rect
        v-for="step in now.horizon ?? [1]"
        :key="step"
        class="goal"
        :x="x(step - 1) + 0.6"
        y="0.5"
        :width="Math.max(cell - 1.2, 1)"
        height="12"
      />
      <rect
        class="edge"
        :x="x(Math.max(...(now.horizon ?? [1]))) - 4"
        y="0"
        width="9"
        height="14"
        tabindex="0"
        role="slider"
        :aria-valuenow="ahead"
        aria-label="Horizon: arrows move its edge"
        @pointerdown="dragHorizon"
        @keydown="horizonKeys"
      >
        <title>Drag the horizon</title>
      </rect>
      <text class="number" :x="x(Math.max(...(now.horizon ?? [1]))) + 8" y="11">
        +{{ store.axis?.steps(Math.max(...(now.horizon ?? [1]))) }}{{ now.recursive ? ', fed back' : '' }}
      </text>
    </g>
    <g v-for="step in marks" :key="step">
      <line class="tick" :x1="x(step)" :x2="x(step)" :y1="height - 20" :y2="height - 16" />
      <text class="number" text-anchor="middle" :x="x(step)" :y="height - 5">
        {{ `−${store.axis?.steps(-step)}` }}
      </text>
    </g>
    <rect class="cutoff" :x="x(0) - 0.75" y="0" width="1.5" :height="height" />
  </svg>
</template>

<style scoped>
.schematic {
  display: block;
  width: 100%;
  touch-action: none;
  user-select: none;
}
.veil {
  fill: var(--veil);
}
.cutoff {
  fill: var(--cutoff);
  pointer-events: none;
}
text {
  font-size: 12px;
  fill: var(--ink-2);
}
path {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.25;
  vector-effect: non-scaling-stroke;
}
.coming {
  stroke: var(--ink-3);
  stroke-width: 1;
}
.read {
  stroke: var(--c1);
  stroke-width: 3;
}
.dot {
  fill: var(--c1);
}
.lag {
  fill: var(--c1);
}
.span {
  fill: var(--c2);
}
.goal {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1;
}
.tick {
  stroke: var(--ink-3);
}
.hit {
  fill: var(--hairline);
  fill-opacity: 0.35;
  cursor: cell;
}
.edge {
  fill: var(--ink);
  fill-opacity: 0;
  cursor: ew-resize;
}
.edge:hover,
.edge:focus {
  fill-opacity: 0.8;
  outline: none;
}
.hit:focus {
  outline: none;
}
.cursor {
  fill: none;
  stroke: var(--cutoff);
  stroke-width: 1.5;
}
.lit {
  stroke: var(--ink);
  stroke-width: 2;
}
</style>
