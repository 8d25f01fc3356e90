<script setup lang="ts">
import Select from 'primevue/select'
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import type { Role } from './useUpload'

/** The raw rows as they came, with the role of every column above it and the reason for it. */
const props = defineProps<{ preview: Shapes['Preview']; roles: string[] }>()
const emit = defineEmits<{ role: [column: string, role: Role] }>()
const rows = computed(() => Math.max(0, ...props.preview.columns.map((column) => column.sample.length)))
const shown = (role: string) => role.replace('_', ' ')
</script>

<template>
  <div class="raw panel" tabindex="0" aria-label="Raw rows">
    <table>
      <thead>
        <tr>
          <th class="number second">line</th>
          <th v-for="column in preview.columns" :key="column.name" :class="column.role">
            <div class="name">{{ column.name }}</div>
            <Select
              :model-value="column.role"
              :options="roles"
              :option-label="shown"
              size="small"
              :aria-label="`Role of ${column.name}`"
              @update:model-value="emit('role', column.name, $event)"
            />
            <div class="reason" :title="column.reason">{{ column.reason }}</div>
          </th>
        </tr>
      </thead>
      <tbody class="number">
        <tr v-for="row in rows" :key="row">
          <td class="second">{{ row + 1 }}</td>
          <td v-for="column in preview.columns" :key="column.name" :class="column.role">
            {{ column.sample[row - 1] }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.raw {
  overflow: auto;
  flex: 1;
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
</style>
