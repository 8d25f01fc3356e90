<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import ChoiceField from './ChoiceField.vue'
import { numbersOf, type Field } from './settingsFields'

/** One setting, by the kind of its values. */
const props = defineProps<{ field: Field; value: unknown }>()
const emit = defineEmits<{ set: [value: unknown] }>()
const set = (value: unknown) => emit('set', value)
/** What is no number stays in the text. */
function setList(text: string) {
  const numbers = numbersOf(text)
  wrong.value = !numbers.every(Number.isFinite)
  if (!wrong.value) set(numbers)
}
const wrong = ref(false)
/** "1, , 2" as numbers with what is left to be chosen as null; nothing at all is null. */
function setTuple(text: string) {
  const parts = text
    .replace(/[()]/g, '')
    .replaceAll('−', '-')
    .split(',')
    .map((each) => each.trim())
  const numbers = parts.map((each) => (each && Number.isFinite(Number(each)) ? Number(each) : null))
  set(numbers.some((each) => each !== null) ? numbers : null)
}
const setWords = (text: string) =>
  set(
    text
      .split(',')
      .map((each) => each.trim())
      .filter(Boolean),
  )
const setMaybe = (text: string) => set(text === 'chosen' ? null : text === 'yes')
function setMixed(text: string) {
  const number = Number(text.replaceAll('−', '-'))
  const given = text.trim() && Number.isFinite(number) ? number : props.field.fallback
  set(props.field.options.includes(text) ? text : given)
}
</script>

<template>
  <label v-tip="field.help">
    <span class="second"
      >{{ field.title }}<template v-if="field.unit">, {{ field.unit }}</template></span
    >
    <ChoiceField
      v-if="field.kind === 'choice'"
      :label="field.title"
      :model-value="value as string"
      :options="field.options.map((each) => ({ value: each, label: each.replaceAll('_', ' ') }))"
      @update:model-value="set($event)"
    />
    <Checkbox
      v-else-if="field.kind === 'flag'"
      binary
      :model-value="Boolean(value)"
      @update:model-value="set($event)"
    />
    <ChoiceField
      v-else-if="field.kind === 'maybe'"
      :label="field.title"
      :model-value="value === null ? 'chosen' : value ? 'yes' : 'no'"
      :options="['chosen', 'yes', 'no']"
      @update:model-value="setMaybe($event)"
    />
    <InputText
      v-else-if="field.kind === 'tuple'"
      class="field number"
      placeholder="chosen"
      :model-value="((value as (number | null)[]) ?? []).map((each) => each ?? '').join(', ')"
      @change="setTuple(($event.target as HTMLInputElement).value)"
    />
    <InputText
      v-else-if="field.kind === 'words'"
      class="field"
      placeholder="none"
      :model-value="((value as string[]) ?? []).join(', ')"
      @change="setWords(($event.target as HTMLInputElement).value)"
    />
    <InputText
      v-else-if="field.kind === 'list'"
      class="field number"
      placeholder="chosen"
      :aria-invalid="wrong"
      :title="wrong ? 'Numbers separated by commas, such as 1-3, 24' : field.help"
      :model-value="((value as number[]) ?? []).join(', ')"
      @change="setList(($event.target as HTMLInputElement).value)"
    />
    <InputText
      v-else-if="field.kind === 'mixed'"
      class="field number"
      :placeholder="`${field.options.join(', ')} or a number`"
      :model-value="String(value ?? '')"
      @change="setMixed(($event.target as HTMLInputElement).value)"
    />
    <InputNumber
      v-else
      class="number"
      :model-value="value as number"
      :min="field.least"
      :max="field.most"
      :max-fraction-digits="field.kind === 'integer' ? 0 : 6"
      :use-grouping="false"
      :placeholder="field.fallback == null ? 'chosen' : undefined"
      size="small"
      fluid
      @update:model-value="set($event)"
    />
  </label>
</template>

<style scoped>
input[aria-invalid='true'] {
  border-color: var(--worse);
}
label {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 132px;
  gap: 8px;
  align-items: center;
}
.field {
  width: 100%;
}
.p-checkbox {
  justify-self: end;
}
:deep(input:not([type='checkbox'])) {
  font-family: var(--numbers);
  text-align: right;
}
</style>
