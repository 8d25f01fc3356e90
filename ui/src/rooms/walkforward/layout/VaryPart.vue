<script setup lang="ts">
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import { computed, ref } from 'vue'
import { describe, numbersOf, type Field, type Schema } from '../../../widgets/settingsFields'
import type { Entry } from './useLayout'

/** One contender with ranges of its settings: every combination enters as a contender of its own. */
const props = defineProps<{ entry: Entry; schema: Schema }>()
const emit = defineEmits<{ enter: [values: Record<string, unknown[]>]; close: [] }>()

const HIDDEN = ['schema_version', 'plan', 'version', 'kind']
const fields = computed(() =>
  Object.entries((props.schema.properties ?? {}) as Record<string, Schema>)
    .filter(([name, schema]) => schema.const === undefined && !HIDDEN.includes(name))
    .map(([name, schema]) => describe(name, schema))
    .filter((field) => !['tuple', 'words', 'list'].includes(field.kind)),
)
const told = ref<Record<string, unknown[]>>({})
const wrong = ref('')

function choices(field: Field): { label: string; value: unknown }[] | null {
  const chosen = { label: 'chosen', value: null }
  if (field.kind === 'flag') return YES_NO
  if (field.kind === 'maybe') return [chosen, ...YES_NO]
  if (field.kind === 'choice') return field.options.map((value) => ({ label: value, value }))
  return null
}
const YES_NO = [
  { label: 'yes', value: true },
  { label: 'no', value: false },
]
function setNumbers(field: Field, text: string) {
  const words = text.split(/[\s,;]+/).filter((token) => field.options.includes(token))
  const numbers = numbersOf(
    text
      .split(/[\s,;]+/)
      .filter((token) => !field.options.includes(token))
      .join(','),
  )
  wrong.value = numbers.every(Number.isFinite) ? '' : field.name
  if (!wrong.value) set(field, [...words, ...numbers])
}
function set(field: Field, values: unknown[]) {
  const rest = Object.fromEntries(Object.entries(told.value).filter(([name]) => name !== field.name))
  told.value = values.length ? { ...rest, [field.name]: values } : rest
}
const count = computed(() =>
  Object.values(told.value).reduce((product, values) => product * values.length, 1),
)
const varied = computed(() => Object.keys(told.value).length > 0)
</script>

<template>
  <section class="vary panel" aria-label="Vary">
    <header>
      <h1>Vary {{ entry.name }}</h1>
      <span class="second"
        >values for each setting, such as 12, 24, 168 or 1-5; what is empty stays as it is</span
      >
    </header>
    <div class="fields">
      <label v-for="field in fields" :key="field.name" v-tip="field.help">
        <span class="second"
          >{{ field.title }}<template v-if="field.unit">, {{ field.unit }}</template></span
        >
        <MultiSelect
          v-if="choices(field)"
          :model-value="told[field.name] ?? []"
          :options="choices(field) ?? []"
          option-label="label"
          option-value="value"
          :aria-label="field.title"
          :show-toggle-all="false"
          placeholder="as it is"
          size="small"
          @update:model-value="set(field, $event as unknown[])"
        />
        <InputText
          v-else
          class="field number"
          :aria-label="field.title"
          :aria-invalid="wrong === field.name"
          :placeholder="field.options.length ? `${field.options.join(', ')} or numbers` : 'as it is'"
          @change="setNumbers(field, ($event.target as HTMLInputElement).value)"
        />
      </label>
    </div>
    <div class="buttons">
      <button class="button primary" :disabled="!varied || Boolean(wrong)" @click="emit('enter', told)">
        Enter {{ count }} {{ count === 1 ? 'variant' : 'variants' }}
      </button>
      <button class="button" @click="emit('close')">Back to the shelf</button>
    </div>
  </section>
</template>

<style scoped>
.vary {
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding: 8px 12px;
  min-height: 0;
}
header {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
h1 {
  margin: 0;
  white-space: nowrap;
}
.fields {
  flex: 1;
  overflow: auto;
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 6px 24px;
  align-content: start;
}
label {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 180px;
  align-items: center;
  gap: 8px;
}
input[aria-invalid='true'] {
  border-color: var(--worse);
}
.buttons {
  display: flex;
  gap: 8px;
}
</style>
