<script setup lang="ts">
/** A pennant as on the lane: filled where it is right, struck through where it is wrong. */
defineProps<{ verdict: string; kind: string }>()
</script>

<template>
  <svg width="11" height="12" viewBox="0 0 11 12" role="img" :aria-label="verdict">
    <path
      :d="kind === 'spike' ? 'M2 11.5V1L9 4.5L2 7.5' : 'M2 11.5V1H9V7.5H2'"
      :fill="verdict === 'right' ? 'var(--ink)' : 'none'"
      stroke="var(--ink)"
    />
    <path v-if="verdict === 'wrong'" d="M0.5 9.5L10.5 0.5" stroke="var(--ink)" />
  </svg>
</template>
