<script setup lang="ts">
import type { Shapes } from '../../../api/client'
import { marksOf } from './raceLines'

/** How much every member counts, series by series. */
const props = defineProps<{ search: Shapes['SearchView'] }>()
const said = (weights: number[]) =>
  weights.map((each, i) => `${props.search.members[i]} ${Math.round(each * 100)} %`).join(', ')
const mark = (name: string | undefined) => marksOf(props.search)(name ?? '').css
</script>

<template>
  <section aria-label="Weight by series">
    <h2>Weight by series</h2>
    <ul>
      <li v-for="each in search.weights" :key="each.key" v-tip="said(each.weights)">
        <span class="second">{{ each.key }}</span>
        <span class="bar" role="img" :aria-label="`${each.key}: ${said(each.weights)}`">
          <i
            v-for="(weight, i) in each.weights"
            :key="i"
            :style="{ flexGrow: weight, background: mark(search.members[i]) }"
          ></i>
        </span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 4px;
  font-size: 13px;
  font-weight: 400;
  color: var(--ink-2);
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: 184px;
  overflow: auto;
}
li {
  display: grid;
  grid-template-columns: 88px minmax(0, 1fr);
  gap: 8px;
  align-items: center;
  font-size: 12px;
  line-height: 19px;
}
li span:first-child {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.bar {
  display: flex;
  gap: 2px;
  height: 10px;
}
i {
  flex-basis: 0;
  min-width: 0;
}
</style>
