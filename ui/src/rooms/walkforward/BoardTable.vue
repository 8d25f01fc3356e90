<script setup lang="ts">
import { computed } from 'vue'
import { fixed, signed } from '../../state/format'
import { markOf } from '../../theme/theme'
import type { Shapes } from '../../api/client'
import type { BoardRow } from './useExperiment'

const props = defineProps<{
  rows: BoardRow[]
  metrics: Shapes['MetricView'][]
  notes: string[]
  baseline: string
  folds: number
  unit: string
  selected: string
  shown: Set<string>
  contenders: { name: string; family: string }[]
}>()
const emit = defineEmits<{ select: [name: string]; toggle: [name: string] }>()
const ordered = computed(() =>
  [...props.rows].sort((a, b) => (b.skill ?? -Infinity) - (a.skill ?? -Infinity)),
)
const reach = computed(() =>
  Math.max(
    0.1,
    ...props.rows
      .flatMap((row) => [Math.abs(row.skill ?? 0), Math.abs(row.skill_high ?? 0)])
      .map((v) => Math.min(v, 1.2)),
  ),
)
const at = (value: number) => 50 + (Math.max(-reach.value, Math.min(reach.value, value)) / reach.value) * 48
const bar = (row: BoardRow) => {
  const skill = row.skill ?? 0
  const left = Math.min(at(skill), 50)
  return {
    left: `${left}%`,
    width: `${Math.abs(at(skill) - 50)}%`,
    background: skill >= 0 ? 'var(--better)' : 'var(--worse)',
  }
}
const whisker = (row: BoardRow) => ({
  left: `${at(row.skill_low ?? 0)}%`,
  width: `${Math.max(at(row.skill_high ?? 0) - at(row.skill_low ?? 0), 0)}%`,
})
const HELP: Record<string, string> = {
  mase: 'Mean absolute error in units of the seasonal naive one',
  rmsse: 'Root mean squared error in units of the seasonal naive one',
  smape: 'Symmetric percentage error',
  pinball: 'Mean pinball loss of the ends of the ranges',
  crps: 'Continuous ranked probability score, from the ranges',
}
const DIGITS: Record<string, number> = { series: 2, percent: 1, none: 3, share: 1 }
const unitOf = (metric: Shapes['MetricView']) =>
  ({ series: props.unit, percent: '%', share: '%', none: '' })[metric.unit] ?? ''
/** What stands behind a number. */
function behindOf(row: BoardRow, name: string) {
  const behind = row.behind[name]
  if (!behind) return ''
  const of = (count: number, one: string, many = `${one}s`) => `${count} ${count === 1 ? one : many}`
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
const dash = (name: string) => markOf(props.contenders, name).dash.join(' ')
const css = (name: string) => markOf(props.contenders, name).css
</script>

<template>
  <div class="board panel" tabindex="0" aria-label="Board">
    <table>
      <thead>
        <tr>
          <th></th>
          <th class="left">contender</th>
          <th colspan="2" class="left">skill against {{ baseline }}</th>
          <th v-for="metric in metrics" :key="metric.name" :title="HELP[metric.name]">
            {{ metric.title }} {{ unitOf(metric) }}
          </th>
          <th title="RMSE after the chain, not comparable between chains">flat RMSE</th>
          <th title="Share of truths inside the 95 % range">95 % covers</th>
          <th title="Processor time of fits and forecasts">CPU s</th>
          <th>best in</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="row in ordered"
          :key="row.contender"
          :class="{ here: row.contender === selected }"
          @click="emit('select', row.contender)"
        >
          <td>
            <button
              class="mark"
              :aria-pressed="shown.has(row.contender)"
              :aria-label="`Draw ${row.contender}`"
              @click.stop="emit('toggle', row.contender)"
            >
              <svg
                viewBox="0 0 28 8"
                width="28"
                height="8"
                :style="{ opacity: shown.has(row.contender) ? 1 : 0.3 }"
              >
                <line
                  x1="0"
                  x2="28"
                  y1="4"
                  y2="4"
                  :stroke="css(row.contender)"
                  stroke-width="2"
                  :stroke-dasharray="dash(row.contender)"
                />
              </svg>
            </button>
          </td>
          <td class="left name" :title="whyOf(row) || row.contender">
            {{ row.contender }}
            <span
              v-if="row.reasons.length"
              class="worse"
              :aria-label="`Some forecasts of ${row.contender} are missing`"
              >!</span
            >
          </td>
          <td
            class="number"
            :class="row.baseline || row.skill === null ? '' : (row.skill ?? 0) >= 0 ? 'better' : 'worse'"
            :title="behindOf(row, 'skill')"
          >
            {{ row.baseline ? '0' : signed(row.skill) }}
          </td>
          <td class="bars">
            <div class="track">
              <i class="zero"></i><i v-if="row.skill !== null" class="bar" :style="bar(row)"></i>
              <i
                v-if="row.skill_low !== null && !row.baseline"
                class="whisker"
                :style="whisker(row)"
                :title="`95 % interval ${signed(row.skill_low)} … ${signed(row.skill_high)}`"
              ></i>
            </div>
          </td>
          <td
            v-for="(metric, i) in metrics"
            :key="metric.name"
            class="number"
            :class="{ reason: nothingOf(row) }"
            :title="whyOf(row) || behindOf(row, metric.name)"
          >
            {{ nothingOf(row) ? (i ? '' : 'no forecast') : errorOf(metric, row) }}
          </td>
          <td class="number">{{ fixed(row.flat_rmse, 3) }}</td>
          <td
            class="number"
            :class="{ worse: row.coverage !== null && Math.abs(row.coverage - 0.95) > 0.03 }"
          >
            {{ row.coverage === null ? '–' : fixed(row.coverage * 100, 1) }}
          </td>
          <td class="number" :title="`${fixed(row.seconds, 1)} s passed while it was computed`">
            {{ fixed(row.cpu_seconds, 1) }}
          </td>
          <td class="number">{{ row.best_in ? `${row.best_in} / ${folds}` : '–' }}</td>
        </tr>
      </tbody>
    </table>
    <p v-for="note in notes" :key="note" class="second note">{{ note }}</p>
    <slot />
  </div>
</template>

<style scoped>
.note {
  margin: 8px 12px 0;
}
.board {
  overflow: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
}
th {
  position: sticky;
  top: 0;
  z-index: 1;
  background: var(--panel);
  font-weight: 400;
  color: var(--ink-2);
  text-align: right;
  padding: 6px 5px;
  border-bottom: 1px solid var(--hairline);
  white-space: nowrap;
}
td {
  padding: 0 5px;
  height: 28px;
  text-align: right;
  border-bottom: 1px solid var(--hairline);
  white-space: nowrap;
}
.left {
  text-align: left;
}
.name {
  font-weight: 500;
  max-width: 170px;
  overflow: hidden;
  text-overflow: ellipsis;
}
tr {
  cursor: pointer;
}
.here {
  background: var(--selection);
}
.mark {
  border: 0;
  background: none;
  padding: 4px 0;
  cursor: pointer;
}
.reason {
  color: var(--worse);
}
.bars {
  min-width: 72px;
  width: 18%;
}
.track {
  position: relative;
  height: 16px;
}
.track i {
  position: absolute;
}
.zero {
  left: 50%;
  top: 0;
  bottom: 0;
  width: 1px;
  background: var(--ink-3);
}
.bar {
  top: 2px;
  bottom: 2px;
  opacity: 0.85;
}
.whisker {
  top: 7.5px;
  height: 1.5px;
  background: var(--ink);
}
</style>
