<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'

/** Name of a column over the shape of its values, with what is missing. */
const props = defineProps<{
  name: string
  facts?: Shapes['ColumnFactView'] | undefined
  color?: string | undefined
  lit: boolean
  firstTarget: boolean
  sorted: string
}>()
const bars = computed(() => {
  const counts = props.facts?.counts ?? []
  const most = Math.max(1, ...counts)
  return counts.map((n, i) => ({ x: i * 4.5, height: n ? Math.max((n / most) * 16, 1) : 0 }))
})
</script>

<template>
  <span class="column" role="columnheader" :class="{ lit, first: firstTarget }" v-tip="name">
    <span class="name">{{ name }}{{ sorted ? ` ${sorted}` : '' }}</span>
    <svg v-if="facts" width="72" height="18" aria-hidden="true">
      <rect
        v-for="(bar, i) in bars"
        :key="i"
        :x="bar.x"
        :y="17 - bar.height"
        width="3.5"
        :height="bar.height"
        :fill="color"
      />
      <line x1="0" x2="72" y1="17.5" y2="17.5" class="ground" />
      <line
        v-if="facts.missing > 0"
        :x1="72 - facts.missing * 72"
        x2="72"
        y1="17.5"
        y2="17.5"
        class="missing"
      />
    </svg>
  </span>
</template>

<style scoped>
.column {
  position: absolute;
  top: 20px;
  height: 42px;
  padding-right: 10px;
  box-sizing: border-box;
  text-align: right;
  cursor: pointer;
  display: flex;
  flex-direction: column;
  align-items: flex-end;
}
.name {
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.lit .name {
  color: var(--ink);
  text-decoration: underline;
}
.first {
  box-shadow: inset 1.5px 0 0 var(--cutoff);
}
.ground {
  stroke: var(--hairline);
}
.missing {
  stroke: var(--cutoff);
  stroke-width: 2;
}
</style>
