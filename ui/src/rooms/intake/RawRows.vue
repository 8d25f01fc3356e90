<script setup lang="ts">
import Select from 'primevue/select'
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { counted } from '../../state/format'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import type { Role } from './useIntake'

/** The raw rows as they came, with the role of every column above it, the reason for it, and rows of findings marked. */
const props = defineProps<{ preview: Shapes['Preview']; roles: string[]; lit: number[] }>()
const emit = defineEmits<{ role: [column: string, role: Role] }>()
interface Row {
  row: number
  cells: (string | null)[]
  /** How many rows before this one are not shown. */
  skipped: number
}
const shown = (role: string) => role.replace('_', ' ')
const sure = (column: Shapes['ColumnView']) =>
  column.given ? 'chosen by you' : `${column.reason}, ${Math.round(column.confidence * 100)} % sure`
const severities = computed(() => {
  const worst = new Map<number, string>()
  for (const finding of props.preview.findings ?? [])
    for (const row of finding.rows) if (worst.get(row) !== 'error') worst.set(row, finding.severity)
  return worst
})
const lit = computed(() => new Set(props.lit))
const rows = computed<Row[]>(() =>
  props.preview.sample_rows.map((row, i, all) => ({
    row,
    cells: props.preview.sample[i] ?? [],
    skipped: i > 0 ? row - (all[i - 1] ?? 0) - 1 : 0,
  })),
)
const line = (row: number) => Math.floor(row / props.preview.per_line) + props.preview.first_line
const columns = computed<GridColumn<Row>[]>(() => [
  {
    name: 'line',
    title: 'line',
    frozen: true,
    text: ({ row }) => String(line(row)),
    tip: ({ skipped }) => (skipped ? `${counted(skipped, 'row')} before this one not shown` : ''),
  },
  ...props.preview.columns.map((each, j) => ({
    name: `at-${j}`,
    title: each.name,
    words: ['time', 'key'].includes(each.role),
    text: ({ cells }: Row) => cells[j] ?? '',
    className: () => each.role,
  })),
])
const classOf = ({ row, skipped }: Row) =>
  [severities.value.get(row), lit.value.has(row) && 'lit', skipped && 'after-gap'].filter(Boolean).join(' ')
</script>

<template>
  <DataGrid
    class="raw panel"
    label="Raw rows"
    :rows="rows"
    :columns="columns"
    :key-of="(each) => each.row"
    :selected="lit.size ? (props.lit[0] ?? null) : null"
    :row-class="classOf"
    :sortable="false"
    :row-height="22"
  >
    <template v-for="(column, j) in preview.columns" :key="column.name" #[`head-at-${j}`]>
      <div class="head">
        <div v-tip="`${column.name}: ${column.type}`" class="name">{{ column.name }}</div>
        <Select
          :model-value="column.role"
          :options="roles"
          :option-label="shown"
          size="small"
          :aria-label="`Role of ${column.name}`"
          @update:model-value="emit('role', column.name, $event)"
        />
        <div v-tip="sure(column)" class="reason">
          {{ sure(column) }}<template v-if="column.category">; names</template>
        </div>
      </div>
    </template>
  </DataGrid>
</template>

<style scoped>
.raw {
  flex: 1;
  min-height: 120px;
}
.head {
  min-width: 120px;
  max-width: 180px;
}
:deep(th.number) .head {
  margin-left: auto;
}
.name {
  font-weight: 600;
  margin-bottom: 4px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.reason {
  font-size: 12px;
  color: var(--ink-2);
  margin-top: 4px;
  white-space: normal;
}
:deep(.ignore) {
  color: var(--ink-2);
  text-decoration: line-through;
}
:deep(tr.warning td:first-child),
:deep(tr.error td:first-child),
:deep(tr.note td:first-child) {
  box-shadow: inset 3px 0 0 var(--ink-3);
}
:deep(tr.warning td:first-child),
:deep(tr.error td:first-child) {
  box-shadow: inset 3px 0 0 var(--worse);
  color: var(--worse);
}
:deep(tr.lit td) {
  background: var(--veil);
}
:deep(tr.after-gap td) {
  border-top: 2px dashed var(--hairline);
}
</style>
