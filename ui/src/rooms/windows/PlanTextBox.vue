<script setup lang="ts">
import { ref, watch } from 'vue'
import { client, ProblemError, unwrap } from '../../api/client'
import type { Plan } from './planText'

/** The whole plan as text: what the form and the drawing show, in one line that can be typed, copied and kept. */
const props = defineProps<{ text: string }>()
const emit = defineEmits<{ change: [plan: Plan] }>()
const typed = ref(props.text)
const complaint = ref('')
watch(
  () => props.text,
  (text) => {
    typed.value = text
    complaint.value = ''
  },
)
async function read() {
  if (typed.value.trim() === props.text) return (complaint.value = '')
  try {
    const found = await unwrap(client.POST('/api/v1/plans/text', { body: { text: typed.value } }))
    complaint.value = ''
    return emit('change', found.plan as unknown as Plan)
  } catch (error) {
    return (complaint.value = error instanceof ProblemError ? error.detail : String(error))
  }
}
</script>

<template>
  <label class="plan">
    <span class="second">Plan as text</span>
    <textarea
      v-model="typed"
      class="field number"
      rows="4"
      spellcheck="false"
      title="Clauses between semicolons, such as: lags 1-24, 168; mean 24; hour_of_day; ahead 1-48. Enter takes it."
      @keydown.enter.exact.prevent="read"
      @blur="read"
    ></textarea>
  </label>
  <p v-if="complaint" class="worse" role="alert">{{ complaint }}</p>
</template>

<style scoped>
.plan {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
textarea {
  font-size: 12px;
  width: 100%;
}
p {
  margin: 0;
}
</style>
