<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../../api/client'
import { count, fixed, seconds } from '../../../state/format'
import DataGrid from '../../../widgets/DataGrid.vue'
import type { GridColumn } from '../../../widgets/grid'
import { marksOf, stateOf } from './raceLines'
import type { Candidate } from './useSearch'

/** Candidates with their errors, the best of those that came farthest first. */
const props = defineProps<{ search: Shapes['SearchView']; folds: number; selected: string }>()
const emit = defineEmits<{ select: [name: string] }>()
const rows = computed(() =>
  [...props.search.candidates].sort(
    (a, b) => b.folds - a.folds || (a.error ?? Infinity) - (b.error ?? Infinity),
  ),
)
const mark = computed(() => marksOf(props.search))
const columns = computed<GridColumn<Candidate>[]>(() => [
  { name: 'mark', title: '', width: 48, words: true },
  { name: 'name', title: 'candidate', value: (row) => row.name, words: true },
  {
    name: 'error',
    title: 'error, search folds',
    help: `Relative to ${props.search.baseline}, on as many folds as it came to`,
    value: (row) => row.error,
    text: (row) => fixed(row.error, 3),
    className: (row) => (row.error === null ? '' : row.error < 1 ? 'better' : 'worse'),
  },
  { name: 'folds', title: 'folds', value: (row) => row.folds, text: (row) => count(row.folds) },
  { name: 'fits', title: 'fits', value: (row) => row.fits, text: (row) => count(row.fits) },
  {
    name: 'spent',
    title: 'spent',
    value: (row) => row.seconds,
    text: (row) => (row.seconds < 9.95 ? `${row.seconds.toFixed(1)} s` : seconds(row.seconds)),
  },
  {
    name: 'weight',
    title: 'in the blend',
    value: (row) => row.weight,
    text: (row) => (row.weight === null ? '' : fixed(row.weight, 2)),
  },
  {
    name: 'state',
    title: 'state',
    words: true,
    value: (row) => row.state,
    text: (row) => stateOf(row, props.folds),
    className: (row) => (['stalled', 'failed'].includes(row.state) ? 'worse' : ''),
    tip: (row) => row.reason,
  },
])
</script>

<template>
  <DataGrid
    :rows="rows"
    :columns="columns"
    :key-of="(row) => row.name"
    :selected="selected"
    :row-class="(row) => (['dropped', 'stalled', 'failed'].includes(row.state) ? 'second' : '')"
    label="Candidates"
    @select="emit('select', $event.name)"
  >
    <template #cell-mark="{ row }">
      <svg viewBox="0 0 28 8" width="28" height="8" aria-hidden="true">
        <line
          x1="0"
          x2="28"
          y1="4"
          y2="4"
          stroke-width="2"
          :stroke="mark(row.name).css"
          :stroke-dasharray="mark(row.name).dash.join(' ')"
        />
      </svg>
    </template>
  </DataGrid>
</template>
