<script setup lang="ts">
import { computed } from 'vue'
import { markOf } from '../../theme/theme'

/** A contender's colour and dash; pressing it draws the contender in the lanes or not. */
const props = defineProps<{
  name: string
  contenders: { name: string; family: string }[]
  shown: boolean
}>()
const emit = defineEmits<{ toggle: [] }>()
const mark = computed(() => markOf(props.contenders, props.name))
</script>

<template>
  <button class="mark" :aria-pressed="shown" :aria-label="`Draw ${name}`" @click.stop="emit('toggle')">
    <svg viewBox="0 0 28 8" width="28" height="8" :style="{ opacity: shown ? 1 : 0.3 }">
      <line
        x1="0"
        x2="28"
        y1="4"
        y2="4"
        :stroke="mark.css"
        stroke-width="2"
        :stroke-dasharray="mark.dash.join(' ')"
      />
    </svg>
  </button>
</template>

<style scoped>
.mark {
  border: 0;
  background: none;
  padding: 4px 0;
  cursor: pointer;
}
</style>
