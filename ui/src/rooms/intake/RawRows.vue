<script setup lang="ts">
import Select from 'primevue/select'
import { computed, nextTick, ref, watch } from 'vue'
import type { Shapes } from '../../api/client'
import { count } from '../../state/format'
import type { Role } from './useIntake'

/** The raw rows as they came, with the role of every column above it, the reason for it, and rows of findings marked. */
const props = defineProps<{ preview: Shapes['Preview']; roles: string[]; lit: number[] }>()
const emit = defineEmits<{ role: [column: string, role: Role] }>()
const host = ref<HTMLDivElement>()
const shown = (role: string) => role.replace('_', ' ')
const sure = (column: Shapes['ColumnView']) =>
  column.given ? 'chosen by you' : `${column.reason}, ${Math.round(column.confidence * 100)} % sure`
const severities = computed(() => {
  const worst = new Map<number, string>()
  for (const finding of props.preview.findings ?? [])
    for (const row of finding.rows) if (worst.get(row) !== 'error') worst.set(row, finding.severity)
  return worst
})
const litRows = computed(() => new Set(props.lit))

watch(
  () => props.lit,
  async (rows) => {
    await nextTick()
    host.value?.querySelector(`[data-row="${rows[0]}"]`)?.scrollIntoView({ block: 'center' })
  },
)
</script>

<template>
  <div ref="host" class="raw panel" tabindex="0" aria-label="Raw rows">
    <table>
      <thead>
        <tr>
          <th class="number second">line</th>
          <th v-for="column in preview.columns" :key="column.name" :class="column.role">
            <div class="name" :title="`${column.name}: ${column.type}`">{{ column.name }}</div>
            <Select
              :model-value="column.role"
              :options="roles"
              :option-label="shown"
              size="small"
              :aria-label="`Role of ${column.name}`"
              @update:model-value="emit('role', column.name, $event)"
            />
            <div class="reason" :title="sure(column)">
              {{ sure(column) }}<template v-if="column.category">; names</template>
            </div>
          </th>
        </tr>
      </thead>
      <tbody class="number">
        <template v-for="(row, i) in preview.sample_rows" :key="row">
          <tr v-if="i > 0 && row > (preview.sample_rows[i - 1] ?? 0) + 1" class="skipped second">
            <td></td>
            <td :colspan="preview.columns.length">
              {{ count(row - (preview.sample_rows[i - 1] ?? 0) - 1) }} rows not shown
            </td>
          </tr>
          <tr :data-row="row" :class="[severities.get(row), { lit: litRows.has(row) }]">
            <td class="second">{{ Math.floor(row / preview.per_line) + preview.first_line }}</td>
            <td v-for="(column, j) in preview.columns" :key="column.name" :class="column.role">
              {{ preview.sample[i]?.[j] }}
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.raw {
  overflow: auto;
  flex: 1;
  min-height: 120px;
}
table {
  border-collapse: collapse;
}
th {
  position: sticky;
  top: 0;
  z-index: 1;
  background: var(--panel);
  border-bottom: 1px solid var(--hairline);
  padding: 8px;
  text-align: left;
  vertical-align: top;
  min-width: 120px;
}
th:first-child {
  min-width: 0;
  font-weight: 400;
}
.name {
  font-weight: 600;
  margin-bottom: 4px;
  max-width: 180px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.reason {
  font-weight: 400;
  font-size: 12px;
  color: var(--ink-2);
  max-width: 180px;
  margin-top: 4px;
}
td {
  padding: 2px 8px;
  white-space: nowrap;
  text-align: right;
  max-width: 260px;
  overflow: hidden;
  text-overflow: ellipsis;
}
td.time,
td.key {
  text-align: left;
}
td.target {
  background: var(--selection);
}
td.ignore {
  color: var(--ink-2);
  text-decoration: line-through;
}
tr.warning td:first-child,
tr.error td:first-child,
tr.note td:first-child {
  box-shadow: inset 3px 0 0 var(--ink-3);
}
tr.warning td:first-child,
tr.error td:first-child {
  box-shadow: inset 3px 0 0 var(--worse);
  color: var(--worse);
}
tr.lit td {
  background: var(--veil);
}
.skipped td {
  text-align: left;
  padding: 4px 8px;
}
</style>
