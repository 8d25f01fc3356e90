<script setup lang="ts">
import FoldedPart from '../../widgets/FoldedPart.vue'
import ChoiceField from '../../widgets/ChoiceField.vue'
import InputText from 'primevue/inputtext'
import NumberField from '../../widgets/NumberField.vue'
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { FILL_METHODS } from './fillMethods'
import type { Recipe } from './useIntake'

/** How the sources are read and what the grid is: empty fields are found out from the data. */
const props = defineProps<{ recipe: Recipe; preview: Shapes['Preview']; files: number }>()
const emit = defineEmits<{ change: [changes: Partial<Recipe>] }>()
type Reader = NonNullable<Recipe['reader']>

const facts = computed(() => props.preview.facts as Record<string, unknown>)
const said = (name: string) => {
  const value = facts.value[name]
  return value === undefined || value === null ? 'found out' : value === '\t' ? 'tab' : String(value)
}
const sheets = computed(() => (facts.value.sheets as string[] | undefined) ?? [])
const text = (event: Event) => (event.target as HTMLInputElement).value.trim()
const reader = (name: keyof Reader, value: unknown) =>
  emit('change', { reader: { ...(props.recipe.reader ?? {}), [name]: value } as Reader })
const events = computed(() => props.recipe.events ?? null)
const filling = computed(() => props.recipe.filling ?? null)
const setEvents = (changes: Record<string, unknown>) =>
  emit('change', { events: { step: '1 hour', ...(events.value ?? {}), ...changes } as Recipe['events'] })
const setFilling = (changes: Record<string, unknown>) =>
  emit('change', { filling: { ...(filling.value ?? {}), ...changes } as Recipe['filling'] })
</script>

<template>
  <section class="entries">
    <label v-if="files > 1"
      >Files
      <ChoiceField
        :model-value="recipe.combine ?? 'append'"
        @update:model-value="emit('change', { combine: $event as 'append' })"
        :options="[
          { value: 'append', label: 'append rows' },
          { value: 'join', label: 'join columns' },
        ]"
    /></label>
    <label
      >Time zone<InputText
        class="field number"
        :model-value="recipe.zone ?? 'UTC'"
        @change="emit('change', { zone: text($event) || 'UTC' })"
    /></label>
    <label
      >Unit<InputText
        class="field number"
        :model-value="recipe.unit"
        placeholder="such as m³/h"
        @change="emit('change', { unit: text($event) })"
    /></label>
    <label v-if="!events"
      >Step<InputText
        class="field number"
        :model-value="recipe.step"
        :placeholder="preview.step ?? 'found out'"
        @change="emit('change', { step: text($event) || null })"
    /></label>
    <label
      >Rows are<ChoiceField
        :model-value="events ? 'events' : 'values'"
        @update:model-value="$event === 'events' ? setEvents({}) : emit('change', { events: null })"
        :options="[
          { value: 'values', label: 'values at times' },
          { value: 'events', label: 'events, to be bucketed' },
        ]"
    /></label>
    <template v-if="events">
      <label
        >Bucket<InputText
          class="field number"
          :model-value="events.step"
          @change="setEvents({ step: text($event) || '1 hour' })"
      /></label>
      <label
        >Value<ChoiceField
          :model-value="events.aggregate ?? 'count'"
          @update:model-value="setEvents({ aggregate: $event })"
          :options="['count', 'sum', 'mean', 'min', 'max', 'first', 'last', 'distinct']"
      /></label>
      <label
        >Empty is<ChoiceField
          :model-value="events.empty ?? 'zero'"
          @update:model-value="setEvents({ empty: $event })"
          :options="['zero', 'missing']"
      /></label>
      <label
        >Ends<ChoiceField
          :model-value="events.edges ?? 'drop'"
          @update:model-value="setEvents({ edges: $event })"
          :options="[
            { value: 'drop', label: 'whole buckets only' },
            { value: 'keep', label: 'keep partial ones' },
          ]"
      /></label>
      <label
        >Anchor<InputText
          class="field number"
          :model-value="events.anchor"
          placeholder="whole steps"
          @change="setEvents({ anchor: text($event) || null })"
      /></label>
    </template>
    <label
      >Gaps<ChoiceField
        :model-value="filling?.method ?? 'leave'"
        @update:model-value="setFilling({ method: $event })"
        :options="FILL_METHODS.map(([name, words]) => ({ value: name, label: words }))"
    /></label>
    <label v-if="filling && filling.method !== 'leave'"
      >Longest<NumberField
        :min="1"
        :model-value="filling.longest"
        placeholder="any"
        @update:model-value="setFilling({ longest: $event })"
    /></label>
    <FoldedPart title="How the file is read">
      <label v-if="sheets.length"
        >Sheet<ChoiceField
          :model-value="String(facts.sheet ?? '')"
          @update:model-value="reader('sheet', $event)"
          :options="sheets"
      /></label>
      <template v-if="preview.format === 'delimited'">
        <label
          >Delimiter<InputText
            class="field number"
            maxlength="1"
            :model-value="recipe.reader?.delimiter"
            :placeholder="said('delimiter')"
            @change="reader('delimiter', text($event) || null)"
        /></label>
        <label
          >Encoding<InputText
            class="field number"
            :model-value="recipe.reader?.encoding"
            :placeholder="said('encoding')"
            @change="reader('encoding', text($event) || null)"
        /></label>
        <label
          >Decimals<ChoiceField
            :model-value="recipe.reader?.decimal ?? ''"
            @update:model-value="reader('decimal', $event || null)"
            :options="[
              { value: '', label: 'found out' },
              { value: '.', label: 'point' },
              { value: ',', label: 'comma' },
            ]"
        /></label>
      </template>
      <label
        >Skip lines<NumberField
          :min="0"
          :model-value="recipe.reader?.skip_rows"
          :placeholder="said('skip_rows')"
          @update:model-value="reader('skip_rows', $event)"
      /></label>
      <label
        >Header lines<NumberField
          :min="0"
          :max="5"
          :model-value="recipe.reader?.header_rows"
          :placeholder="said('header_rows')"
          @update:model-value="reader('header_rows', $event)"
      /></label>
      <label
        >Missing is<InputText
          class="field number"
          :model-value="recipe.reader?.missing?.join(' ')"
          placeholder="NA null - …"
          @change="reader('missing', text($event).split(/\s+/).filter(Boolean))"
      /></label>
      <label
        >Time form<InputText
          class="field number"
          :model-value="recipe.time_form"
          placeholder="from the column"
          @change="emit('change', { time_form: text($event) || null })"
      /></label>
      <label
        >From<InputText
          class="field number"
          :model-value="recipe.period_start"
          placeholder="first row"
          @change="emit('change', { period_start: text($event) || null })"
      /></label>
      <label
        >To<InputText
          class="field number"
          :model-value="recipe.period_end"
          placeholder="last row"
          @change="emit('change', { period_end: text($event) || null })"
      /></label>
    </FoldedPart>
  </section>
</template>

<style scoped>
section {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
</style>
