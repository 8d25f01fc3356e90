<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { fixed, number } from '../../state/format'

/** What a contender learned, number by number, with its doubt where that is known. */
const props = defineProps<{ facts: Shapes['FactsView'] }>()
/** In the model's own order; of many window features the largest. */
const coefficients = computed(() => {
  const all = [...(props.facts.coefficients ?? [])]
  return props.facts.windows
    ? all.sort((a, b) => Math.abs(b.estimate ?? 0) - Math.abs(a.estimate ?? 0)).slice(0, 8)
    : all
})
/** Numbers that leave the table its width. */
const short = (value: number | null, digits: number) =>
  value !== null && Math.abs(value) >= 1e6 ? value.toExponential(digits - 1) : number(value, digits)
const doubted = computed(() => coefficients.value.some((each) => each.error !== null))
const inflated = computed(() => coefficients.value.some((each) => each.inflation !== null))
</script>

<template>
  <div v-if="coefficients.length" class="scrolled">
    <table class="facts coefficients">
      <caption>
        {{
          facts.windows ? 'Largest coefficients' : 'What it learned'
        }}
      </caption>
      <thead v-if="doubted">
        <tr>
          <th></th>
          <th class="number">estimate</th>
          <th class="number" v-tip="'standard error'">error</th>
          <th class="number" v-tip="'estimate over standard error'">t</th>
          <th class="number" v-tip="'chance of so large a t where there is nothing'">p</th>
          <th v-if="inflated" class="number" v-tip="'variance inflation: 1 where columns are unrelated'">
            VIF
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in coefficients" :key="each.name">
          <td v-tip="each.name">{{ each.name.replaceAll('_', ' ') }}</td>
          <td class="number">{{ short(each.estimate, 4) }}</td>
          <template v-if="doubted">
            <td class="number">{{ each.error === null ? '' : short(each.error, 2) }}</td>
            <td class="number">{{ each.t === null ? '' : fixed(each.t, 1) }}</td>
            <td class="number">{{ each.p === null ? '' : fixed(each.p, 3) }}</td>
            <td v-if="inflated" class="number">
              {{ each.inflation === null ? '' : fixed(each.inflation, 1) }}
            </td>
          </template>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.scrolled {
  flex: 0 0 auto;
  max-height: 260px;
  overflow: auto;
}
.coefficients {
  font-size: 12px;
}
.coefficients td,
.coefficients th {
  padding: 3px 0 3px 4px;
  white-space: nowrap;
  text-align: right;
  font-weight: 400;
}
.coefficients td:first-child {
  padding-left: 0;
  white-space: normal;
  text-align: left;
}
caption {
  text-align: left;
  color: var(--ink-2);
}
</style>
