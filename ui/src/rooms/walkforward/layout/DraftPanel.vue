<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed } from 'vue'
import { count, counted, seconds } from '../../../state/format'
import { useProject } from '../../../state/project'
import ChoiceField from '../../../widgets/ChoiceField.vue'
import NumberField from '../../../widgets/NumberField.vue'
import { markOf } from '../../../theme/theme'
import MeasuresField from './MeasuresField.vue'
import type { Layout } from './useLayout'

/** Who goes to the board, against which baseline and by which measures, and what that comes to before it runs. */
const props = defineProps<{ layout: Layout; selected: number | null; reasons: Record<string, string> }>()
const emit = defineEmits<{ select: [index: number]; blend: []; run: []; close: [] }>()
const store = useProject()
const { name, seed, metrics, entries, baseline, prospect, starting, brought } = props.layout

const listed = computed(() => {
  const names = entries.value.map((each) => ({
    name: each.name,
    family: String(store.catalogue?.forecasters[each.forecaster.kind ?? '']?.group ?? ''),
  }))
  return entries.value.map((each) => ({
    name: each.name,
    mark: markOf(names, each.name),
    unsuited: props.reasons[each.forecaster.kind ?? ''] ?? '',
    note: [
      ...(each.name === baseline.value ? ['baseline'] : []),
      ...(each.forecaster.kind === 'made_elsewhere' ? ['made elsewhere, cutoff not proven'] : []),
      ...(each.chain ?? []).map((stage) => String(stage.kind).replaceAll('_', ' ')),
    ].join(' · '),
  }))
})
const sentence = computed(() => {
  const found = prospect.data.value
  if (!found) return ''
  const there = found.there
    ? `: ${count(found.there)} there already, ${count(found.cells - found.there)} to compute`
    : ''
  const takes =
    found.cells === found.there
      ? ''
      : found.seconds === null
        ? props.layout.costs.settled(entries.value)
          ? ', how long cannot be said'
          : ', how long is being measured'
        : found.seconds < 1
          ? ', under a second here'
          : `, about ${seconds(found.seconds)} here`
  return `${counted(found.cells, 'cell')}${there}${takes}. Each contender is scored on ${counted(found.points, 'point')}.`
})
const learners = computed(
  () =>
    entries.value.filter((each) => {
      const group = store.catalogue?.forecasters[each.forecaster.kind ?? '']?.group
      return group !== 'baseline' && group !== 'blend'
    }).length,
)
const unsuited = computed(() => listed.value.filter((each) => each.unsuited))
const ready = computed(
  () => entries.value.length && metrics.value.length && !prospect.failure.value && !starting.value,
)
</script>

<template>
  <section class="draft panel" aria-label="To the board">
    <header>
      <h1>To the board</h1>
      <span class="second number">{{ counted(entries.length, 'entrant') }}</span>
    </header>
    <ul>
      <li v-for="(each, i) in listed" :key="i" :class="{ here: i === selected }">
        <svg viewBox="0 0 28 8" width="28" height="8" aria-hidden="true">
          <line
            x1="0"
            x2="28"
            y1="4"
            y2="4"
            stroke-width="2"
            :stroke="each.mark.css"
            :stroke-dasharray="each.mark.dash.join(' ')"
          />
        </svg>
        <button class="as-text" @click="emit('select', i)">{{ each.name }}</button>
        <span class="second note" :class="{ worse: each.unsuited }" v-tip="each.unsuited || each.note">{{
          each.unsuited ? 'does not suit here' : each.note
        }}</span>
        <button class="as-text second" :aria-label="`Remove ${each.name}`" @click="layout.remove(i)">
          ×
        </button>
      </li>
    </ul>
    <div class="facts">
      <label><span class="second">Name</span><InputText v-model="name" class="field" /></label>
      <label>
        <span class="second">Baseline</span>
        <ChoiceField v-model="baseline" :options="entries.map((each) => each.name)" />
      </label>
      <label><span class="second">Measures</span><MeasuresField v-model="metrics" /></label>
      <label
        ><span class="second">Seed</span
        ><NumberField :model-value="seed" :min="0" @update:model-value="seed = $event ?? 0"
      /></label>
    </div>
    <p v-if="prospect.failure.value" class="worse" role="alert">{{ prospect.failure.value }}</p>
    <p v-else class="sum" role="status">
      {{ sentence }}
      <span v-if="brought">{{ brought }} </span>
      <span v-for="each in unsuited" :key="each.name" class="worse"
        >{{ each.name }}: {{ each.unsuited }}
      </span>
    </p>
    <div class="buttons">
      <button class="button primary" :disabled="!ready" @click="emit('run')">Run</button>
      <button class="button" :disabled="learners < 2" @click="emit('blend')">Blend the learners</button>
      <button class="button" @click="emit('close')">Leave it</button>
    </div>
  </section>
</template>

<style scoped>
.draft {
  display: flex;
  flex-direction: column;
  gap: 6px;
  padding: 8px 12px;
  min-height: 0;
}
header,
.buttons {
  display: flex;
  gap: 8px;
  align-items: baseline;
  justify-content: space-between;
}
.buttons {
  justify-content: start;
}
h1,
p {
  margin: 0;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  flex: 1;
  overflow: auto;
  min-height: 52px;
}
li {
  display: grid;
  grid-template-columns: 28px minmax(0, 1fr) auto 22px;
  gap: 8px;
  align-items: center;
  border-bottom: 1px solid var(--hairline);
}
.here {
  background: var(--selection);
}
.as-text {
  border: 0;
  background: none;
  padding: 3px 2px;
  cursor: pointer;
  text-align: left;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.note {
  font-size: 12px;
  max-width: 190px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.facts {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 4px 12px;
}
label {
  display: grid;
  grid-template-columns: 62px minmax(0, 1fr);
  align-items: center;
  gap: 6px;
}
.sum {
  background: var(--selection);
  padding: 6px 8px;
}
</style>
