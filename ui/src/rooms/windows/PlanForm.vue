<script setup lang="ts">
import { ref } from 'vue'
import { parseRuns, runs, type Plan } from './planText'

/** The plan as short text fields: lags, rolling, calendar, horizon, stride. */
const props = defineProps<{ plan: Plan }>()
const emit = defineEmits<{ change: [plan: Plan] }>()
const complaint = ref('')

function numbers(field: 'lags' | 'horizon', text: string) {
  const parsed = parseRuns(text)
  if (!parsed || (field === 'horizon' && !parsed.length))
    return (complaint.value = `“${text}” is not a list such as 1-24, 48.`)
  complaint.value = ''
  return emit('change', { ...props.plan, [field]: parsed })
}

function rolling(statistic: 'mean' | 'std', text: string) {
  const windows = parseRuns(text)
  if (!windows || (statistic === 'std' && windows.includes(1)))
    return (complaint.value = 'Rolling windows are whole numbers; a spread needs at least 2.')
  complaint.value = ''
  const others = (props.plan.rolling ?? []).filter(
    (each) => each.statistic !== statistic || each.least != null,
  )
  return emit('change', {
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
const text = (event: Event) => (event.target as HTMLInputElement).value
</script>

<template>
  <div class="form">
    <label
      ><span>lags</span
      ><input class="field number" :value="runs(plan.lags ?? [])" @change="numbers('lags', text($event))"
    /></label>
    <label
      ><span>mean of last</span
      ><input
        class="field number"
        :value="windowsOf('mean')"
        placeholder="none"
        @change="rolling('mean', text($event))"
    /></label>
    <label
      ><span>spread of last</span
      ><input
        class="field number"
        :value="windowsOf('std')"
        placeholder="none"
        @change="rolling('std', text($event))"
    /></label>
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
      ><input
        class="field number"
        :value="runs(plan.horizon ?? [1])"
        @change="numbers('horizon', text($event))"
    /></label>
    <label
      ><span>stride</span
      ><input
        class="field number"
        type="number"
        min="1"
        :value="plan.stride"
        @change="emit('change', { ...plan, stride: Math.max(1, Number(text($event)) || 1) })"
    /></label>
    <p v-if="complaint" class="worse" role="alert">{{ complaint }}</p>
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
