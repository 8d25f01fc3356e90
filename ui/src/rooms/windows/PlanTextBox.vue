<script setup lang="ts">
import Textarea from 'primevue/textarea'
import { computed, nextTick, ref, watch } from 'vue'
import { client, ProblemError, unwrap } from '../../api/client'
import { useProject } from '../../state/project'
import type { Plan } from './planText'

/** The whole plan as text: what the form and the drawing show, to be typed, copied and kept; words complete.
 *
 * Until the plan is there nothing can be typed: the answer would come between selecting and typing. */
const props = defineProps<{ text: string; waiting: boolean }>()
const emit = defineEmits<{ change: [plan: Plan] }>()
const store = useProject()
const host = ref<{ $el: HTMLTextAreaElement }>()
const area = computed(() => host.value?.$el)
const typed = ref(props.text)
const typing = ref(false)
const complaint = ref('')
const words = ref<string[]>([])
const caret = ref(0)
const open = ref(false)
const choice = ref(0)
watch(
  () => props.text,
  (text) => {
    if (typing.value) return // an answer that comes meanwhile takes nothing away
    typed.value = text
    complaint.value = ''
  },
)
const ask = (text: string) =>
  unwrap(
    client.POST('/api/v1/plans/text', { body: { text, plan: null, dataset_id: store.dataset?.id ?? null } }),
  )
async function learnWords() {
  if (!words.value.length)
    words.value = await ask('ahead 1').then(
      (found) => found.words,
      () => [],
    )
}
/** The clause being typed, up to the caret. */
const clause = computed(() => {
  const before = typed.value.slice(0, caret.value)
  return before.slice(Math.max(before.lastIndexOf(';'), before.lastIndexOf('\n')) + 1).trimStart()
})
const offers = computed(() =>
  open.value && clause.value
    ? words.value.filter((word) => word.startsWith(clause.value) && word !== clause.value).slice(0, 7)
    : [],
)
function follow() {
  typing.value = true
  caret.value = area.value?.selectionStart ?? typed.value.length
  open.value = true
  choice.value = 0
}
function take(word: string) {
  const start = caret.value - clause.value.length
  typed.value = `${typed.value.slice(0, start)}${word} ${typed.value.slice(caret.value)}`
  open.value = false
  void nextTick(() => area.value?.setSelectionRange(start + word.length + 1, start + word.length + 1))
}
async function read() {
  open.value = false
  if (typed.value.trim() === props.text) return (complaint.value = '')
  try {
    const found = await ask(typed.value)
    complaint.value = ''
    typing.value = false
    return emit('change', found.plan as unknown as Plan)
  } catch (error) {
    return (complaint.value = error instanceof ProblemError ? error.detail : String(error))
  }
}
function keys(event: KeyboardEvent) {
  const offered = offers.value
  if (offered.length && (event.key === 'ArrowDown' || event.key === 'ArrowUp')) {
    choice.value = (choice.value + (event.key === 'ArrowDown' ? 1 : -1) + offered.length) % offered.length
  } else if (offered.length && event.key === 'Tab') {
    take(offered[choice.value] ?? '')
  } else if (event.key === 'Escape' && (open.value || typed.value !== props.text)) {
    if (!offered.length) {
      typed.value = props.text
      typing.value = false
    }
    open.value = false
    complaint.value = ''
    event.stopPropagation()
  } else if (event.key === 'Enter' && !event.shiftKey) {
    void read()
  } else return
  event.preventDefault()
}
</script>

<template>
  <div class="plan">
    <label class="second" for="plan-text">Plan as text</label>
    <Textarea
      id="plan-text"
      ref="host"
      v-model="typed"
      class="field number"
      rows="4"
      :readonly="waiting"
      spellcheck="false"
      :aria-invalid="!!complaint"
      aria-autocomplete="list"
      title="Clauses between semicolons, such as: lags 1-24, 168; mean 24; hour_of_day; ahead 1-48. Enter takes it, Tab completes a word."
      @focus="learnWords"
      @input="follow"
      @keydown="keys"
      @blur="read"
    />
    <ul v-if="offers.length" role="listbox" aria-label="Words of a plan">
      <li
        v-for="(word, i) in offers"
        :key="word"
        role="option"
        :aria-selected="i === choice"
        class="number"
        @mousedown.prevent="take(word)"
      >
        {{ word }}
      </li>
    </ul>
    <p v-if="complaint" class="worse" role="alert">{{ complaint }}</p>
  </div>
</template>

<style scoped>
.plan {
  display: flex;
  flex-direction: column;
  gap: 4px;
  position: relative;
}
textarea {
  font-size: 12px;
  width: 100%;
  resize: vertical;
}
ul {
  position: absolute;
  top: 100%;
  left: 0;
  right: 0;
  z-index: 5;
  margin: 0;
  padding: 4px 0;
  list-style: none;
  background: var(--panel);
  border: 1px solid var(--ink-3);
  border-radius: 3px;
  font-size: 12px;
}
li {
  padding: 1px 10px;
  cursor: pointer;
}
li[aria-selected='true'] {
  background: var(--selection);
}
p {
  margin: 0;
}
</style>
