<script setup lang="ts">
import { ref } from 'vue'
import { useProject } from '../../state/project'
import type { Plan } from './planText'
import { LEFT, useSchematic, W, type Row } from './useSchematic'
import { useSchematicEdits } from './useSchematicEdits'

/** One row drawn to scale in time: the series, what the row reads left of its origin, what it is asked for right of it. */
const props = defineProps<Row>()
const emit = defineEmits<{ light: [name: string | null]; change: [plan: Plan] }>()
const store = useProject()
const svg = ref<SVGSVGElement>()
/** What a drag would make of the plan, shown while the pointer is down; the scale stays meanwhile. */
const sketch = ref<Plan | null>(null)
const back = ref(24)
const drawing = useSchematic(props, sketch, back)
const { now, x, cell, others, rolling, widths, marks, curve, box } = drawing
const { lagsTop, rollingTop, othersTop, targetTop, height, ahead } = drawing
const { stepAt, sweepLags, dragSpan, dragHorizon, cursor, onLags, lagKeys, spanKeys, horizonKeys } =
  useSchematicEdits(props, drawing, { svg, sketch, back }, (plan) => emit('change', plan))
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
