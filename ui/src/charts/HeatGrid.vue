<script setup lang="ts">
import { signed } from '../state/format'

/** Skill by row and column: blue-green better, ochre worse than the baseline; the number is in the title. */
defineProps<{
  rows: { label: string; values: (number | null)[]; css: string }[]
  columns: string[]
  caption: string
}>()

function shade(value: number | null): string {
  if (value === null) return 'transparent'
  const size = Math.min(Math.abs(value) / 0.5, 1) * 85 + 8
  return `color-mix(in srgb, var(--${value >= 0 ? 'better' : 'worse'}) ${size}%, var(--panel))`
}
</script>

<template>
  <figure>
    <figcaption>{{ caption }}</figcaption>
    <table>
      <tbody>
        <tr v-for="row in rows" :key="row.label">
          <th scope="row">
            <i :style="{ background: row.css }"></i><span class="sr-only">{{ row.label }}</span>
          </th>
          <td
            v-for="(value, i) in row.values"
            :key="i"
            :style="{ background: shade(value) }"
            :title="`${row.label}, ${columns[i]}: ${signed(value)}`"
          >
            <span class="sr-only">{{ signed(value) }}</span>
          </td>
        </tr>
      </tbody>
    </table>
    <div class="ends number">
      <span>{{ columns[0] }}</span><span>{{ columns[columns.length - 1] }}</span>
    </div>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
}
figcaption,
.ends {
  font-size: 12px;
  color: var(--ink-2);
}
table {
  width: 100%;
  border-collapse: separate;
  border-spacing: 1px;
  table-layout: fixed;
}
td {
  height: 12px;
  border: 1px solid color-mix(in srgb, var(--hairline) 60%, transparent);
}
th {
  width: 14px;
  padding: 0;
}
th i {
  display: block;
  width: 10px;
  height: 3px;
}
.ends {
  display: flex;
  justify-content: space-between;
  padding-left: 14px;
}
</style>
