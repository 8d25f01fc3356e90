<script setup lang="ts">
import Skeleton from 'primevue/skeleton'
import { computed } from 'vue'
import type { Answer } from '../state/answers'

/** In place of what is not there yet: that it is read, or why it could not be, what stays, and once more. */
const props = defineProps<{ answer: Answer; what: string }>()
const shown = computed(() => props.answer.data.value !== null)
</script>

<template>
  <div v-if="answer.loading.value" class="waiting" role="status">
    <Skeleton width="100%" height="100%" />
    <span class="second">reading {{ what }} …</span>
  </div>
  <p v-else-if="answer.failure.value" class="failed" role="alert">
    <span class="worse">{{ answer.failure.value }}</span>
    <span class="second">{{ shown ? ` What is shown of ${what} is of before.` : '' }}</span>
    <button class="button" @click="answer.again()">Try again</button>
  </p>
</template>

<style scoped>
.waiting {
  position: absolute;
  inset: 26px 16px 24px 60px;
}
.waiting span {
  position: absolute;
  inset: 0;
  display: grid;
  place-items: center;
  animation: appear 0s 0.4s both;
}
@keyframes appear {
  from {
    visibility: hidden;
  }
}
.failed {
  position: absolute;
  z-index: 3;
  top: 26px;
  left: 68px;
  right: 24px;
  margin: 0;
  display: flex;
  gap: 12px;
  align-items: center;
}
</style>
