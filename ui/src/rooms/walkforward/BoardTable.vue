<script setup lang="ts">
import { computed, ref } from 'vue'
import { explained } from './measures'
import { count, fixed, signed } from '../../state/format'
import DataGrid from '../../widgets/DataGrid.vue'
import { sorted, type GridColumn, type GridSort } from '../../widgets/grid'
import ContenderMark from './ContenderMark.vue'
import SkillBar from './SkillBar.vue'
import type { Shapes } from '../../api/client'
import type { BoardRow } from './useExperiment'

const props = defineProps<{
  rows: BoardRow[]
  metrics: Shapes['MetricView'][]
  notes: string[]
  deceptions: Shapes['DeceptionView'][]
  ranks: Shapes['RanksView'] | null
  resampled: string | null
  baseline: string
  folds: number
  unit: string
  selected: string
  shown: Set<string>
  contenders: { name: string; family: string }[]
}>()
const emit = defineEmits<{ select: [name: string]; toggle: [name: string] }>()
const order = ref<GridSort>({ name: 'skill', up: false })
const ordered = computed(() =>
  sorted(
    props.rows,
    columns.value.find((each) => each.name === order.value.name),
    order.value.up,
  ),
)
const DIGITS: Record<string, number> = { series: 2, square: 2, percent: 1, none: 3, share: 1 }
const unitOf = (metric: Shapes['MetricView']) =>
  ({ series: props.unit, square: props.unit && `${props.unit}²`, percent: '%', share: '%', none: '' })[
    metric.unit
  ] ?? ''
/** What stands behind a number. */
function behindOf(row: BoardRow, name: string) {
  const behind = row.behind[name]
  if (!behind) return ''
  const of = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`
  return `From ${of(behind.points, 'point')}, ${of(behind.folds, 'fold')}, ${of(behind.series, 'series', 'series')}`
}
/** Large errors are told whole: decimals would only widen the column. */
const largest = (name: string) => Math.max(0, ...props.rows.map((row) => Math.abs(row.errors[name] ?? 0)))
function errorOf(metric: Shapes['MetricView'], row: BoardRow) {
  const value = row.errors[metric.name] ?? null
  if (metric.unit === 'share') return fixed(value === null ? null : value * 100, DIGITS.share ?? 1)
  return fixed(value, largest(metric.name) >= 1000 ? 0 : (DIGITS[metric.unit] ?? 3))
}
/** Whether an entrant that had its turn forecast nothing at all. */
const nothingOf = (row: BoardRow) =>
  row.reasons.length > 0 && Object.values(row.errors).every((v) => v === null)
/** Every reason for what is missing, with where. */
const whyOf = (row: BoardRow) =>
  row.reasons
    .map(
      (each) =>
        `${each.text} (fold ${each.folds.map((fold) => fold + 1).join(', ')}${each.series.length ? `: ${each.series.slice(0, 5).join(', ')}${each.series.length > 5 ? ' …' : ''}` : ''})`,
    )
    .join('\n')
/** What to mind of an entrant: why forecasts are missing, and what its numbers hide. */
const mindOf = (row: BoardRow) =>
  [
    ...props.deceptions
      .filter((each) => each.contender === row.contender)
      .map((each) => `${each.title}: ${each.text}`),
    whyOf(row),
  ]
    .filter(Boolean)
    .join('\n')
const better = (row: BoardRow) =>
  row.baseline || row.skill === null ? '' : row.skill >= 0 ? 'better' : 'worse'
const columns = computed<GridColumn<BoardRow>[]>(() => [
  { name: 'mark', title: '', width: 44, words: true },
  { name: 'name', title: 'contender', value: (row) => row.contender, words: true },
  { name: 'signs', title: '', width: 24, words: true },
  {
    name: 'skill',
    title: 'skill',
    help: `Share of the error of ${props.baseline} that is saved`,
    value: (row) => row.skill,
    text: (row) => (row.baseline ? '0' : signed(row.skill)),
    className: better,
    tip: (row) =>
      [behindOf(row, 'skill'), props.resampled && `interval drawn from ${props.resampled}`]
        .filter(Boolean)
        .join('; '),
  },
  { name: 'bars', title: `against ${props.baseline}`, width: 112, words: true },
  ...props.metrics.map((metric, i) => ({
    name: metric.name,
    title: `${metric.title} ${unitOf(metric)}`,
    help: explained(metric),
    value: (row: BoardRow) => row.errors[metric.name] ?? null,
    text: (row: BoardRow) => (nothingOf(row) ? (i ? '' : 'no forecast') : errorOf(metric, row)),
    className: (row: BoardRow) => (nothingOf(row) ? 'worse' : ''),
    tip: (row: BoardRow) => whyOf(row) || behindOf(row, metric.name),
  })),
  {
    name: 'flat_rmse',
    title: 'flat RMSE',
    help: 'RMSE after the chain, not comparable between chains',
    value: (row) => row.flat_rmse,
    text: (row) => fixed(row.flat_rmse, 3),
  },
  {
    name: 'coverage',
    title: '95 % covers',
    help: 'Share of truths inside the 95 % range',
    value: (row) => row.coverage,
    text: (row) => (row.coverage === null ? '–' : fixed(row.coverage * 100, 1)),
    className: (row) => (row.coverage !== null && Math.abs(row.coverage - 0.95) > 0.03 ? 'worse' : ''),
  },
  {
    name: 'cpu_seconds',
    title: 'CPU s',
    help: 'Processor time of fits and forecasts',
    value: (row) => row.cpu_seconds,
    text: (row) => fixed(row.cpu_seconds, 1),
    tip: (row) => `${fixed(row.seconds, 1)} s passed while it was computed`,
  },
  ...(props.ranks
    ? [
        {
          name: 'mean_rank',
          title: 'rank',
          help: `Mean rank over ${props.ranks.cases} ${props.rows[0]?.skill_by_series.length === 1 ? 'folds' : 'series'}; ${fixed(props.ranks.critical_difference, 2)} apart is more than luck`,
          value: (row: BoardRow) => row.mean_rank,
          text: (row: BoardRow) => fixed(row.mean_rank, 1),
        },
      ]
    : []),
  {
    name: 'best_in',
    title: 'best in',
    value: (row) => row.best_in,
    text: (row) => (row.best_in ? `${row.best_in} / ${props.folds}` : '–'),
  },
])
</script>

<template>
  <DataGrid
    class="board panel"
    label="Board"
    :rows="ordered"
    :columns="columns"
    :key-of="(row) => row.contender"
    :selected="selected"
    :order="order"
    :row-height="28"
    @order="order = $event"
    @select="emit('select', $event.contender)"
  >
    <template #cell-mark="{ row }">
      <ContenderMark
        :name="row.contender"
        :contenders="contenders"
        :shown="shown.has(row.contender)"
        @toggle="emit('toggle', row.contender)"
      />
    </template>
    <template #cell-name="{ row }">
      <span v-tip="mindOf(row) || row.contender">{{ row.contender }}</span>
    </template>
    <template #cell-signs="{ row }">
      <span class="signs">
        <span
          v-if="row.among_best"
          class="among"
          role="img"
          aria-label="May be the best"
          v-tip="'Cannot be told apart from the best (95 % confidence set)'"
          >≈</span
        >
        <span
          v-if="mindOf(row)"
          class="worse"
          role="img"
          :aria-label="
            row.reasons.length ? `Some forecasts of ${row.contender} are missing` : `Mind ${row.contender}`
          "
          v-tip="mindOf(row)"
          >!</span
        >
      </span>
    </template>
    <template #cell-bars="{ row }"><SkillBar :row="row" :rows="rows" /></template>
    <p v-for="note in notes" :key="note" class="second note">{{ note }}</p>
    <slot />
  </DataGrid>
</template>

<style scoped>
.signs {
  white-space: nowrap;
}
.among {
  color: var(--better);
  font-weight: 700;
}
.note {
  margin: 8px 12px 0;
}
:deep(td.name) {
  font-weight: 500;
  max-width: 170px;
  overflow: hidden;
  text-overflow: ellipsis;
}
:deep(td),
:deep(th) {
  padding-left: 5px;
  padding-right: 5px;
}
:deep(th.bars) {
  max-width: 108px;
}
</style>
