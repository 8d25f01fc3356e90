<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import ColumnHead from './ColumnHead.vue'
import { COLORS, columnGroups } from './columnKinds'

/** The heads of the window table: groups of columns, and of those in view name, kind, facts and order. */
const props = defineProps<{
  table: Shapes['WindowsView']
  facts: Map<string, Shapes['ColumnFactView']>
  names: string[]
  seen: { index: number; start: number }[]
  lit: string | null
  sort: { column: string; descending: boolean } | null
  /** Width of the column of origins, px. */
  lead: number
  columnWidth: number
  withSeries: boolean
}>()
const emit = defineEmits<{ light: [name: string | null]; order: [column: string] }>()
const kindOf = computed(() => new Map(props.table.sources.map((each) => [each.name, each.kind])))
const groups = computed(() => columnGroups(props.names, props.table.names.length, kindOf.value))
const width = computed(() => props.lead + props.names.length * props.columnWidth)
</script>

<template>
  <div class="head" role="row" :style="{ width: width + 'px' }">
    <span class="origin" role="columnheader" :style="{ width: lead + 'px' }">
      <button class="plain when" @click="emit('order', 'origin')">
        origin{{ sort?.column === 'origin' ? (sort.descending ? ' ↓' : ' ↑') : '' }}
      </button>
      <span v-if="withSeries" class="key">series</span>
    </span>
    <span
      v-for="group in groups"
      :key="group.kind + group.start"
      class="group"
      role="presentation"
      aria-hidden="true"
      :style="{
        left: lead + group.start * columnWidth + 'px',
        width: group.size * columnWidth - 6 + 'px',
        borderColor: COLORS[group.kind],
      }"
      ><b :style="{ left: lead + 6 + 'px' }">{{ group.title }}</b></span
    >
    <ColumnHead
      v-for="item in seen"
      :key="item.index"
      :name="names[item.index] ?? ''"
      :facts="facts.get(names[item.index] ?? '')"
      :color="
        COLORS[item.index >= table.names.length ? 'target' : (kindOf.get(names[item.index] ?? '') ?? '')]
      "
      :lit="names[item.index] === lit"
      :first-target="item.index === table.names.length"
      :sorted="sort?.column === names[item.index] ? (sort?.descending ? '↓' : '↑') : ''"
      :style="{ left: item.start + 'px', width: columnWidth + 'px' }"
      @mouseenter="emit('light', names[item.index] ?? null)"
      @click="emit('order', names[item.index] ?? '')"
    />
  </div>
</template>

<style scoped>
.head {
  position: sticky;
  top: 0;
  z-index: 3;
  background: var(--panel);
  border-bottom: 1px solid var(--hairline);
  color: var(--ink-2);
  height: 62px;
}
.group {
  position: absolute;
  top: 2px;
  height: 16px;
  border-top: 2px solid;
  font-size: 12px;
  margin-left: 6px;
  overflow: clip;
}
.group b {
  position: sticky;
  font-weight: 400;
}
.origin {
  position: sticky;
  left: 0;
  z-index: 2;
  background: var(--panel);
  padding-left: 10px;
  display: inline-flex;
  align-items: center;
  gap: 10px;
  white-space: nowrap;
}
.head .origin {
  height: 61px;
  align-items: flex-end;
  padding-bottom: 31px;
  box-sizing: border-box;
}
.when {
  flex: 0 0 118px;
  text-align: left;
}
.plain {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  cursor: pointer;
}
</style>
