<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { useProject } from '../../state/project'
import type { Plan } from './planText'

/** One row drawn to scale in time: what it reads left of its origin, what it is asked for right of it. */
const props = defineProps<{ sources: Shapes['SourceView'][]; plan: Plan; lit: string | null }>()
const emit = defineEmits<{ light: [name: string | null]; toggle: [lag: number] }>()
const store = useProject()
const W = 1000
const LEFT = 110
const back = computed(() =>
  Math.max(24, ...props.sources.filter((each) => !each.whole).map((each) => -each.first + 1)),
)
const ahead = computed(() => Math.max(1, ...(props.plan.horizon ?? [1])))
const cell = computed(() => (W - LEFT - 12) / (back.value + ahead.value + 2))
const x = (step: number) => LEFT + (back.value + step) * cell.value
const KINDS: [string, string, string][] = [
  ['lags', 'lags', 'var(--c1)'],
  ['rolling', 'rolling', 'var(--c2)'],
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
const lanes = computed(() => {
  const found = KINDS.map(([kind, title, color]) => ({
    kind,
    title,
    color,
    items: props.sources.filter((each) => each.kind === kind),
  }))
  return found.filter((lane) => lane.items.length)
})
const height = computed(() => 18 * (lanes.value.length + 1) + 26)
const marks = computed(() => {
  const season = Math.round(store.axis?.grid.seasons[0] ?? 12)
  const every = Math.max(season, Math.ceil(back.value / 6 / season) * season)
  const out: number[] = []
  for (let step = -every; step > -back.value; step -= every) out.push(step)
  return out
})

function box(item: Shapes['SourceView'], index: number, kind: string) {
  const atTarget = kind === 'calendar' || kind === 'fourier'
  const first = atTarget ? (props.plan.horizon?.[0] ?? 1) : Math.max(item.first, 1 - back.value)
  const last = atTarget ? ahead.value : Math.min(item.last, ahead.value)
  const tall = kind === 'rolling' ? 5 : 12
  const shift = kind === 'rolling' ? (index % 2) * 6 : 0
  return {
    x: x(first - 1) + 0.4,
    width: Math.max((last - first + 1) * cell.value - 0.8, 1),
    y: shift,
    height: tall,
  }
}

function clickLags(event: MouseEvent) {
  const svg = (event.currentTarget as SVGElement).ownerSVGElement
  if (!svg) return
  const box = svg.getBoundingClientRect()
  const at = ((event.clientX - box.left) / box.width) * W
  const step = Math.floor((at - LEFT) / cell.value - back.value) + 1
  if (step <= 0) emit('toggle', 1 - step)
}
</script>

<template>
  <svg
    class="schematic"
    :viewBox="`0 0 ${W} ${height}`"
    role="img"
    aria-label="One row of the table, drawn to scale"
    @mouseleave="emit('light', null)"
  >
    <rect class="veil" :x="x(0)" y="0" :width="W - x(0)" :height="height" />
    <g v-for="(lane, row) in lanes" :key="lane.kind" :transform="`translate(0 ${4 + row * 18})`">
      <text x="12" y="11">{{ lane.title }}</text>
      <rect
        v-if="lane.kind === 'lags'"
        class="hit"
        :x="LEFT"
        y="0"
        :width="x(0) - LEFT"
        height="14"
        @click="clickLags"
      >
        <title>Click to add or remove a lag</title>
      </rect>
      <rect
        v-for="(item, i) in lane.items"
        :key="item.name"
        v-bind="box(item, i, lane.kind)"
        :fill="lane.color"
        :class="{ lit: item.name === lit, through: lane.kind === 'lags' }"
        @mouseenter="emit('light', item.name)"
      >
        <title>
          {{ item.name }}:
          {{ item.first === item.last ? `step ${item.first}` : `steps ${item.first} … ${item.last}` }} from
          the origin
        </title>
      </rect>
    </g>
    <g :transform="`translate(0 ${4 + lanes.length * 18})`">
      <text x="12" y="11">target</text>
      <rect
        v-for="step in plan.horizon ?? [1]"
        :key="step"
        class="goal"
        :x="x(step - 1) + 0.6"
        y="0.5"
        :width="Math.max(cell - 1.2, 1)"
        height="12"
      />
    </g>
    <g v-for="step in marks" :key="step">
      <line class="tick" :x1="x(step)" :x2="x(step)" :y1="height - 20" :y2="height - 16" />
      <text class="number" text-anchor="middle" :x="x(step)" :y="height - 5">
        {{ `−${store.axis?.steps(-step)}` }}
      </text>
    </g>
    <text class="number" text-anchor="end" :x="W - 8" :y="height - 5">+{{ store.axis?.steps(ahead) }}</text>
    <rect class="cutoff" :x="x(0) - 0.75" y="0" width="1.5" :height="height" />
  </svg>
</template>

<style scoped>
.schematic {
  display: block;
  width: 100%;
}
.veil {
  fill: var(--veil);
}
.cutoff {
  fill: var(--cutoff);
}
text {
  font-size: 12px;
  fill: var(--ink-2);
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
  cursor: pointer;
}
.through {
  pointer-events: all;
}
.lit {
  stroke: var(--ink);
  stroke-width: 2;
}
</style>
