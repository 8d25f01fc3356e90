<script setup lang="ts">
import type { Shapes } from '../../api/client'
import SaveMenu from './SaveMenu.vue'

/** What can be done with an experiment: stop, go on, vary a copy, take it away. */
defineProps<{
  id: number | undefined
  experiment: Shapes['ExperimentView'] | null
  active: boolean
  there: boolean
}>()
const emit = defineEmits<{ run: []; stop: []; copy: []; search: [] }>()
</script>

<template>
  <div class="buttons">
    <button v-if="active" class="button primary" @click="emit('stop')">Stop (Esc)</button>
    <button
      v-else-if="experiment && experiment.done < experiment.cells"
      class="button primary"
      @click="emit('run')"
    >
      Continue (r)
    </button>
    <button
      class="button"
      :class="{ primary: !active && experiment?.done === experiment?.cells }"
      :disabled="!there"
      @click="emit('copy')"
    >
      Copy, then vary
    </button>
    <button class="button" :disabled="!there" @click="emit('search')">
      {{ experiment?.searches ? 'The search' : 'Search for better' }}
    </button>
    <SaveMenu v-if="id" :id="id" />
  </div>
</template>

<style scoped>
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
</style>
