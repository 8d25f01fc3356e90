<script setup lang="ts">
import ChoiceField from '../../widgets/ChoiceField.vue'
import InputText from 'primevue/inputtext'
import NumberField from '../../widgets/NumberField.vue'
import { computed, ref } from 'vue'
import { parseRuns, runs, type Plan } from './planText'
import type { Complaint } from './useWindowTable'

/** The plan as short fields; what the server refuses is said beside the field it was typed in. */
const props = defineProps<{ plan: Plan; complaint: Complaint | null }>()
const emit = defineEmits<{ change: [plan: Plan] }>()
const own = ref<Complaint | null>(null)
const wrong = (field: string) =>
  own.value?.field === field
    ? own.value.detail
    : props.complaint?.field.startsWith(field)
      ? props.complaint.detail
      : ''
/** What stands beside none of the fields here. */
const elsewhere = computed(() => {
  const field = props.complaint?.field ?? ''
  const here = ['lags', 'rolling', 'horizon', 'stride', 'half_life', 'missing', 'calendar']
  return props.complaint && !here.some((each) => field.startsWith(each)) ? props.complaint.detail : ''
})

function numbers(field: 'lags' | 'horizon', text: string) {
  const zero = /(^|[\s,])0(?!\d)/.test(text)
  const parsed = parseRuns(text)
  if (zero) {
    const what =
      field === 'lags'
        ? 'Lag 1 is the value at the origin; lag 0 would be the target.'
        : 'The first step ahead is 1.'
    own.value = { field, detail: what }
  } else if (!parsed) own.value = { field, detail: `“${text}” is not a list such as 1-24, 48.` }
  else if (field === 'horizon' && !parsed.length)
    own.value = { field, detail: 'A plan needs at least one step ahead.' }
  else {
    own.value = null
    emit('change', { ...props.plan, [field]: parsed })
  }
}

function rolling(statistic: 'mean' | 'std', text: string) {
  const windows = parseRuns(text)
  if (!windows || (statistic === 'std' && windows.includes(1))) {
    own.value = { field: 'rolling', detail: 'Rolling windows are whole numbers; a spread needs at least 2.' }
    return
  }
  own.value = null
  const others = (props.plan.rolling ?? []).filter(
    (each) => each.statistic !== statistic || each.least != null,
  )
  emit('change', {
    ...props.plan,
    rolling: [
      ...others,
      ...windows.map((window) => ({ kind: 'rolling' as const, statistic, window, level: null, least: null })),
    ],
  })
}

const windowsOf = (statistic: string) =>
  runs(
    (props.plan.rolling ?? [])
      .filter((each) => each.statistic === statistic && each.least == null)
      .map((each) => each.window),
  )
const FIELDS = [
  'minute_of_day',
  'hour_of_day',
  'weekday',
  'day_of_month',
  'day_of_year',
  'week_of_year',
  'month',
  'quarter',
] as const
function toggle(field: (typeof FIELDS)[number]) {
  const now = new Set(props.plan.calendar ?? [])
  if (!now.delete(field)) now.add(field)
  emit('change', { ...props.plan, calendar: FIELDS.filter((each) => now.has(each)) })
}
function many(way: string) {
  const recursive = way === 'fed back'
  emit('change', { ...props.plan, recursive, horizon: recursive ? [1] : (props.plan.horizon ?? [1]) })
}
const missing = (rule: string) => emit('change', { ...props.plan, missing: rule as Plan['missing'] })
function halfLife(given: string) {
  const steps = given.trim() === '' ? null : Number(given)
  if (steps !== null && !(steps > 0)) {
    own.value = {
      field: 'half_life',
      detail: 'Rows so many steps old weigh half: a number above 0, or nothing.',
    }
    return
  }
  own.value = null
  emit('change', { ...props.plan, half_life: steps })
}
const text = (event: Event) => (event.target as HTMLInputElement).value
</script>

<template>
  <div class="form">
    <label
      ><span>lags</span
      ><InputText
        class="field number"
        :model-value="runs(plan.lags ?? [])"
        @change="numbers('lags', text($event))"
    /></label>
    <p v-if="wrong('lags')" class="worse" role="alert">{{ wrong('lags') }}</p>
    <label
      ><span>mean of last</span
      ><InputText
        class="field number"
        :model-value="windowsOf('mean')"
        placeholder="none"
        @change="rolling('mean', text($event))"
    /></label>
    <label
      ><span>spread of last</span
      ><InputText
        class="field number"
        :model-value="windowsOf('std')"
        placeholder="none"
        @change="rolling('std', text($event))"
    /></label>
    <p v-if="wrong('rolling')" class="worse" role="alert">{{ wrong('rolling') }}</p>
    <div class="fields" role="group" aria-label="Calendar, as sine and cosine">
      <button
        v-for="field in FIELDS"
        :key="field"
        :aria-pressed="(plan.calendar ?? []).includes(field)"
        @click="toggle(field)"
      >
        {{ field.replaceAll('_', ' ') }}
      </button>
    </div>
    <label
      ><span>steps ahead</span
      ><InputText
        class="field number"
        :model-value="runs(plan.horizon ?? [1])"
        @change="numbers('horizon', text($event))"
    /></label>
    <p v-if="wrong('horizon')" class="worse" role="alert">{{ wrong('horizon') }}</p>
    <label
      ><span>many steps</span>
      <ChoiceField
        :model-value="plan.recursive ? 'fed back' : 'direct'"
        @update:model-value="many($event)"
        :options="[
          { value: 'direct', label: 'a target for each' },
          { value: 'fed back', label: 'one target, fed back' },
        ]"
    /></label>
    <label
      ><span>stride</span
      ><NumberField
        :min="1"
        :model-value="plan.stride"
        @update:model-value="emit('change', { ...plan, stride: Math.max(1, $event ?? 1) })"
    /></label>
    <p v-if="wrong('stride')" class="worse" role="alert">{{ wrong('stride') }}</p>
    <label
      ><span>missing cells</span>
      <ChoiceField
        :model-value="plan.missing"
        @update:model-value="missing($event)"
        :options="[
          { value: 'drop', label: 'leave the row out' },
          { value: 'keep', label: 'keep as missing' },
          { value: 'fill', label: 'last known value' },
        ]"
    /></label>
    <label
      ><span>half weight after</span
      ><InputText
        class="field number"
        :model-value="String(plan.half_life ?? '')"
        placeholder="all rows alike"
        @change="halfLife(text($event))"
    /></label>
    <p v-if="wrong('half_life')" class="worse" role="alert">{{ wrong('half_life') }}</p>
    <p v-if="elsewhere" class="worse" role="alert">{{ elsewhere }}</p>
  </div>
</template>

<style scoped>
.form {
  display: flex;
  flex-direction: column;
  gap: 6px;
}
label {
  display: grid;
  grid-template-columns: 92px minmax(0, 1fr);
  align-items: center;
  color: var(--ink-2);
}
.fields {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.fields button {
  border: 1px solid var(--hairline);
  border-radius: 3px;
  background: none;
  padding: 1px 6px;
  font-size: 12px;
  cursor: pointer;
  color: var(--ink-2);
}
.fields button[aria-pressed='true'] {
  border-color: var(--ink);
  background: var(--selection);
  color: var(--ink);
}
p {
  margin: 0;
}
</style>
