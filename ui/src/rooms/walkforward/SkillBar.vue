<script setup lang="ts">
import { computed } from 'vue'
import { signed } from '../../state/format'
import type { BoardRow } from './useExperiment'

/** Skill as a bar from zero, with its interval, on the scale of the whole board. */
const props = defineProps<{ row: BoardRow; rows: BoardRow[] }>()
const reach = computed(() =>
  Math.max(
    0.1,
    ...props.rows
      .flatMap((row) => [Math.abs(row.skill ?? 0), Math.abs(row.skill_high ?? 0)])
      .map((v) => Math.min(v, 1.2)),
  ),
)
const at = (value: number) => 50 + (Math.max(-reach.value, Math.min(reach.value, value)) / reach.value) * 48
const bar = computed(() => {
  const skill = props.row.skill ?? 0
  const left = Math.min(at(skill), 50)
  return {
    left: `${left}%`,
    width: `${Math.abs(at(skill) - 50)}%`,
    background: skill >= 0 ? 'var(--better)' : 'var(--worse)',
  }
})
const whisker = computed(() => ({
  left: `${at(props.row.skill_low ?? 0)}%`,
  width: `${Math.max(at(props.row.skill_high ?? 0) - at(props.row.skill_low ?? 0), 0)}%`,
}))
</script>

<template>
  <div class="track">
    <i class="zero"></i><i v-if="row.skill !== null" class="bar" :style="bar"></i>
    <i
      v-if="row.skill_low !== null && !row.baseline"
      class="whisker"
      :style="whisker"
      v-tip="`95 % interval ${signed(row.skill_low)} … ${signed(row.skill_high)}`"
    ></i>
  </div>
</template>

<style scoped>
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
