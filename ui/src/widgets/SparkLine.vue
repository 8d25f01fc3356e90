<script setup lang="ts">
import { spark } from '../charts/spark'

/** The shape of a series in the height of a word; the gaps stay open. */
defineProps<{ values: (number | null)[] }>()
</script>

<template>
  <svg viewBox="0 0 60 16" width="60" height="16" aria-hidden="true"><path :d="spark(values)" /></svg>
</template>

<style scoped>
path {
  fill: none;
  stroke: var(--ink-2);
}
</style>
