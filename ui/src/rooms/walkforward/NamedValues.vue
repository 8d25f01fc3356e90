<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { number } from '../../state/format'

/** Values by name, a bar each from a common zero: what pictures are whose x are names. */
const props = defineProps<{ picture: Shapes['PictureView'] }>()
const values = computed(() => props.picture.curves.flatMap((each) => each.y.map((y) => y ?? 0)))
const low = computed(() => Math.min(0, ...values.value))
const high = computed(() => Math.max(0, ...values.value))
const share = (value: number) => (100 * (value - low.value)) / (high.value - low.value || 1)
function bar(value: number | null) {
  const [from, to] = [share(Math.min(value ?? 0, 0)), share(Math.max(value ?? 0, 0))]
  return { left: `${from}%`, width: `${Math.max(to - from, 0.5)}%` }
}
</script>

<template>
  <table class="named" :aria-label="picture.title">
    <caption>
      {{
        picture.title
      }}
    </caption>
    <thead>
      <tr>
        <th scope="col">{{ picture.x_label }}</th>
        <th v-for="curve in picture.curves" :key="curve.label" scope="col" class="number">
          {{ curve.label }}
        </th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(name, row) in picture.names" :key="name">
        <th scope="row" :title="name">{{ name }}</th>
        <td v-for="(curve, column) in picture.curves" :key="curve.label" class="number">
          <span
            class="bar"
            :style="{ ...bar(curve.y[row] ?? null), background: `var(--c${column + 1})` }"
          ></span>
          <span class="value">{{ number(curve.y[row] ?? null) }}</span>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.named {
  width: 100%;
  table-layout: fixed;
  border-collapse: collapse;
  font-size: 12px;
}
caption {
  padding: 0 0 2px;
  color: var(--ink-2);
  text-align: left;
}
th,
td {
  position: relative;
  overflow: hidden;
  padding: 1px 2px;
  font-weight: normal;
  text-align: left;
  text-overflow: ellipsis;
  white-space: nowrap;
}
thead th {
  color: var(--ink-2);
}
.number {
  text-align: right;
}
.bar {
  position: absolute;
  top: 2px;
  bottom: 2px;
  opacity: 0.3;
}
.value {
  position: relative;
}
</style>
