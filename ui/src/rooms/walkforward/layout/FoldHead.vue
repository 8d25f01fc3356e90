<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref, watch } from 'vue'

/** What is done with the folds as a whole: one more or fewer, sealing, every setting, and the design as a line. */
const props = defineProps<{ line: string; wrong: boolean }>()
const emit = defineEmits<{ count: [by: 1 | -1]; seal: []; settings: []; say: [line: string] }>()
const typed = ref(props.line)
watch(
  () => props.line,
  (now) => (typed.value = now),
)
</script>

<template>
  <header>
    <h1>Folds</h1>
    <button
      class="button quiet"
      aria-label="One fold fewer"
      v-tip="'One fold fewer (−)'"
      @click="emit('count', -1)"
    >
      −
    </button>
    <button
      class="button quiet"
      aria-label="One fold more"
      v-tip="'One fold more (+)'"
      @click="emit('count', 1)"
    >
      +
    </button>
    <button
      class="button quiet"
      v-tip="'Seal the folds from the one at hand on, or open them (s)'"
      @click="emit('seal')"
    >
      seal from here
    </button>
    <button class="button quiet" @click="emit('settings')">every setting</button>
    <InputText
      v-model="typed"
      class="field line"
      aria-label="Folds in words"
      :aria-invalid="wrong"
      @change="emit('say', typed)"
    />
  </header>
</template>

<style scoped>
header {
  display: flex;
  align-items: center;
  gap: 6px;
}
h1 {
  margin: 0;
}
.line {
  flex: 1;
  min-width: 300px;
  font-family: var(--numbers);
  margin-left: auto;
}
.line[aria-invalid='true'] {
  border-color: var(--worse);
}
</style>
