<script setup lang="ts">
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
const whole = (event: Event) => (text(event) === '' ? null : Number(text(event)))
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
      <select
        class="field"
        :value="recipe.combine ?? 'append'"
        @change="emit('change', { combine: text($event) as 'append' })"
      >
        <option value="append">append rows</option>
        <option value="join">join columns</option>
      </select></label
    >
    <label
      >Time zone<input
        class="field number"
        :value="recipe.zone ?? 'UTC'"
        @change="emit('change', { zone: text($event) || 'UTC' })"
    /></label>
    <label
      >Unit<input
        class="field number"
        :value="recipe.unit"
        placeholder="such as m³/h"
        @change="emit('change', { unit: text($event) })"
    /></label>
    <label v-if="!events"
      >Step<input
        class="field number"
        :value="recipe.step"
        :placeholder="preview.step ?? 'found out'"
        @change="emit('change', { step: text($event) || null })"
    /></label>
    <label
      >Rows are<select
        class="field"
        :value="events ? 'events' : 'values'"
        @change="text($event) === 'events' ? setEvents({}) : emit('change', { events: null })"
      >
        <option value="values">values at times</option>
        <option value="events">events, to be bucketed</option>
      </select></label
    >
    <template v-if="events">
      <label
        >Bucket<input
          class="field number"
          :value="events.step"
          @change="setEvents({ step: text($event) || '1 hour' })"
      /></label>
      <label
        >Value<select
          class="field"
          :value="events.aggregate ?? 'count'"
          @change="setEvents({ aggregate: text($event) })"
        >
          <option
            v-for="way in ['count', 'sum', 'mean', 'min', 'max', 'first', 'last', 'distinct']"
            :key="way"
          >
            {{ way }}
          </option>
        </select></label
      >
      <label
        >Empty is<select
          class="field"
          :value="events.empty ?? 'zero'"
          @change="setEvents({ empty: text($event) })"
        >
          <option>zero</option>
          <option>missing</option>
        </select></label
      >
      <label
        >Ends<select
          class="field"
          :value="events.edges ?? 'drop'"
          @change="setEvents({ edges: text($event) })"
        >
          <option value="drop">whole buckets only</option>
          <option value="keep">keep partial ones</option>
        </select></label
      >
      <label
        >Anchor<input
          class="field number"
          :value="events.anchor"
          placeholder="whole steps"
          @change="setEvents({ anchor: text($event) || null })"
      /></label>
    </template>
    <label
      >Gaps<select
        class="field"
        :value="filling?.method ?? 'leave'"
        @change="setFilling({ method: text($event) })"
      >
        <option v-for="[name, words] in FILL_METHODS" :key="name" :value="name">{{ words }}</option>
      </select></label
    >
    <label v-if="filling && filling.method !== 'leave'"
      >Longest<input
        class="field number"
        type="number"
        min="1"
        :value="filling.longest"
        placeholder="any"
        @change="setFilling({ longest: whole($event) })"
    /></label>
    <details>
      <summary>How the file is read</summary>
      <label v-if="sheets.length"
        >Sheet<select class="field" :value="facts.sheet" @change="reader('sheet', text($event))">
          <option v-for="sheet in sheets" :key="sheet">{{ sheet }}</option>
        </select></label
      >
      <template v-if="preview.format === 'delimited'">
        <label
          >Delimiter<input
            class="field number"
            maxlength="1"
            :value="recipe.reader?.delimiter"
            :placeholder="said('delimiter')"
            @change="reader('delimiter', text($event) || null)"
        /></label>
        <label
          >Encoding<input
            class="field number"
            :value="recipe.reader?.encoding"
            :placeholder="said('encoding')"
            @change="reader('encoding', text($event) || null)"
        /></label>
        <label
          >Decimals<select
            class="field"
            :value="recipe.reader?.decimal ?? ''"
            @change="reader('decimal', text($event) || null)"
          >
            <option value="">found out</option>
            <option value=".">point</option>
            <option value=",">comma</option>
          </select></label
        >
      </template>
      <label
        >Skip lines<input
          class="field number"
          type="number"
          min="0"
          :value="recipe.reader?.skip_rows"
          :placeholder="said('skip_rows')"
          @change="reader('skip_rows', whole($event))"
      /></label>
      <label
        >Header lines<input
          class="field number"
          type="number"
          min="0"
          max="5"
          :value="recipe.reader?.header_rows"
          :placeholder="said('header_rows')"
          @change="reader('header_rows', whole($event))"
      /></label>
      <label
        >Missing is<input
          class="field number"
          :value="recipe.reader?.missing?.join(' ')"
          placeholder="NA null - …"
          @change="reader('missing', text($event).split(/\s+/).filter(Boolean))"
      /></label>
      <label
        >Time form<input
          class="field number"
          :value="recipe.time_form"
          placeholder="from the column"
          @change="emit('change', { time_form: text($event) || null })"
      /></label>
      <label
        >From<input
          class="field number"
          :value="recipe.period_start"
          placeholder="first row"
          @change="emit('change', { period_start: text($event) || null })"
      /></label>
      <label
        >To<input
          class="field number"
          :value="recipe.period_end"
          placeholder="last row"
          @change="emit('change', { period_end: text($event) || null })"
      /></label>
    </details>
  </section>
</template>

<style scoped>
section,
details {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
summary {
  cursor: pointer;
  color: var(--ink-2);
  margin-bottom: 6px;
}
</style>
