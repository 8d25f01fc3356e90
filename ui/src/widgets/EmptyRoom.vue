<script setup lang="ts">
import { useProject } from '../state/project'

defineProps<{ title: string; text: string; action?: string; to?: string }>()
const emit = defineEmits<{ act: [] }>()
const store = useProject()
</script>

<template>
  <div class="empty">
    <svg viewBox="0 0 48 48" width="40" height="40" aria-hidden="true">
      <rect x="4" y="10" width="14" height="28" fill="var(--hairline)" />
      <rect x="22" y="4" width="3" height="40" fill="var(--cutoff)" />
      <rect x="30" y="11" width="13" height="26" fill="none" stroke="var(--hairline)" stroke-width="2" />
    </svg>
    <h1>{{ title }}</h1>
    <p class="second">{{ text }}</p>
    <RouterLink
      v-if="action && to && store.project"
      class="button primary link"
      :to="{ name: to, params: { project: store.project.id } }"
      >{{ action }}</RouterLink
    >
    <button v-else-if="action" class="button primary" @click="emit('act')">{{ action }}</button>
    <slot />
  </div>
</template>

<style scoped>
.empty {
  height: 100%;
  display: flex;
  flex-direction: column;
  align-items: center;
  justify-content: center;
  gap: 8px;
}
p {
  margin: 0 0 8px;
  max-width: 460px;
  text-align: center;
}
.link {
  display: inline-flex;
  align-items: center;
  text-decoration: none;
}
</style>
