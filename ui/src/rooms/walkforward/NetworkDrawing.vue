<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { count } from '../../state/format'

/** Every layer on the time axis up to the cutoff: what its last step sees, and where its steps end. */
const props = defineProps<{ layers: Shapes['LayerView'][] }>()
const QUIET = ['side by side', 'sum', 'difference', 'dropout']
const shown = computed(() => props.layers.filter((each) => !QUIET.includes(each.title)))
const furthest = computed(() =>
  Math.max(1, ...props.layers.flatMap((each) => each.lags.map((pair) => pair?.[0] ?? 1))),
)
/** From the left: the place of a lag's point, in shares of the width; 1 is the cutoff. */
const at = (lag: number) => 1 - lag / furthest.value
const rows = computed(() =>
  shown.value.map((each) => {
    const pairs = each.lags.map((pair) => (pair ? { far: pair[0]!, near: pair[1]! } : null))
    const last = pairs[pairs.length - 1]
    return {
      ...each,
      span: last ? { x: at(last.far), width: (last.far - last.near + 1) / furthest.value } : null,
      ends:
        each.steps > 1 ? pairs.flatMap((pair) => (pair ? [at(pair.near) + 0.5 / furthest.value] : [])) : [],
      sees: last
        ? `lags ${last.near} … ${last.far}${each.beside ? ' and other features' : ''}`
        : 'other features',
    }
  }),
)
const total = computed(() => props.layers.reduce((sum, each) => sum + each.weights, 0))
</script>

<template>
  <table class="drawing" aria-label="The network">
    <caption>
      The network, to scale: what each layer's last step sees
    </caption>
    <thead>
      <tr>
        <th scope="col" class="layer">layer</th>
        <th scope="col" class="axis">
          <span>−{{ furthest }}</span
          ><span>cutoff</span>
        </th>
        <th scope="col" class="number units" title="Steps times numbers of each">units</th>
        <th scope="col" class="number weights">weights</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(row, place) in rows" :key="place">
        <th scope="row" :title="row.title">{{ row.title }}</th>
        <td class="place" :title="`its last step sees ${row.sees}`">
          <svg viewBox="0 0 100 12" preserveAspectRatio="none" role="img" :aria-label="`sees ${row.sees}`">
            <line x1="0" x2="100" y1="9" y2="9" class="ground" />
            <rect
              v-if="row.span"
              :x="100 * row.span.x"
              :width="100 * row.span.width"
              y="1"
              height="7"
              class="span"
              :class="{ beside: row.beside }"
            />
            <line
              v-for="(end, index) in row.ends"
              :key="index"
              :x1="100 * end"
              :x2="100 * end"
              y1="9"
              y2="12"
              class="end"
            />
          </svg>
        </td>
        <td class="number">{{ row.steps > 1 ? `${row.steps} × ` : '' }}{{ row.channels }}</td>
        <td class="number">{{ row.weights ? count(row.weights) : '' }}</td>
      </tr>
    </tbody>
    <tfoot>
      <tr>
        <th scope="row" colspan="3">all weights</th>
        <td class="number">{{ count(total) }}</td>
      </tr>
    </tfoot>
  </table>
</template>

<style scoped>
.drawing {
  width: 100%;
  table-layout: fixed;
  border-collapse: collapse;
  font-size: 11px;
}
caption {
  padding: 0 0 4px;
  text-align: left;
}
th,
td {
  overflow: hidden;
  padding: 1px 2px;
  font-weight: normal;
  text-align: left;
  white-space: nowrap;
}
thead th {
  color: var(--ink-2);
}
.number {
  text-align: right;
}
.layer {
  width: 68px;
}
.units {
  width: 54px;
}
.weights {
  width: 47px;
}
.axis span:last-child {
  float: right;
}
svg {
  display: block;
  width: 100%;
  height: 12px;
}
.ground {
  stroke: var(--line);
  vector-effect: non-scaling-stroke;
}
.span {
  fill: var(--c1);
  opacity: 0.6;
}
.span.beside {
  opacity: 0.3;
}
.end {
  stroke: var(--ink-3);
  stroke-width: 0.5px;
  vector-effect: non-scaling-stroke;
}
tfoot {
  border-top: 1px solid var(--line);
}
</style>
