<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import { computed } from 'vue'
import type { Shapes } from '../../api/client'
import { namedBars, type PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { chance, fixed, number } from '../../state/format'
import { useProject } from '../../state/project'
import FactList from '../../widgets/FactList.vue'
import SettingsForm from '../../widgets/SettingsForm.vue'
import type { Stage } from './useFlatten'

/** Settings of the selected stage, what it learned, and the tests before and after it. */
const props = defineProps<{
  stage: Stage
  place: number
  count: number
  view: Shapes['StageView'] | undefined
  facts: Shapes['FlatFactsView'] | null
  roundTrip: number | null
  comparing: boolean
}>()
const emit = defineEmits<{ set: [settings: Record<string, unknown>]; compare: [on: boolean] }>()
const store = useProject()
const schema = computed(() => (store.catalogue?.stages[props.stage.kind] ?? {}) as Record<string, unknown>)
const twinned = computed(() =>
  ['robust', 'method', 'statistic'].some((name) => name in ((schema.value.properties ?? {}) as object)),
)
const after = computed(() => props.facts?.stages.find((each) => each.place === props.place))
const before = computed(() => {
  const earlier = (props.facts?.stages ?? []).filter((each) => each.place < props.place)
  return earlier[earlier.length - 1] ?? props.facts?.before
})
const tests = computed(() =>
  (after.value?.tests ?? []).map((test) => ({
    name: test.name,
    after: test.p_value,
    before: before.value?.tests.find((each) => each.name === test.name)?.p_value,
    verdict: test.verdict,
  })),
)
const told = computed(() => [
  ...Object.entries(props.view?.facts ?? {}).map(([name, value]) => ({ name, value: number(value, 4) })),
  props.view?.variance_share != null && {
    name: 'share of variance',
    value: `${fixed(props.view.variance_share * 100, 1)} %`,
  },
  { name: 'round trip of the chain', value: props.roundTrip?.toExponential(0) ?? '–' },
])
const curves = computed(() =>
  (props.view?.figures ?? []).map((figure) => ({
    ...figure,
    series: [
      {
        label: figure.title,
        x: figure.labels.map(Number),
        y: figure.values,
        kind: 'line',
        color: 'var(--c3)',
      },
    ] as PlotSeries[],
  })),
)
</script>

<template>
  <h1>{{ view?.title ?? String(schema.title ?? stage.kind) }}</h1>
  <p class="second sentence">
    stage {{ place + 1 }} of {{ count }} · {{ stage.off ? 'switched off' : 'learned up to the cutoff' }}
  </p>
  <SettingsForm
    :schema="schema"
    :model-value="stage as unknown as Record<string, unknown>"
    :skip="['off']"
    @update:model-value="emit('set', $event)"
  />
  <template v-if="view">
    <template v-for="figure in curves" :key="figure.title">
      <PlotChart
        v-if="figure.kind === 'curve'"
        class="figure"
        :title="figure.title"
        :series="figure.series"
        :marks="
          view.facts['λ'] === undefined
            ? []
            : [{ x: view.facts['λ'], label: `λ ${number(view.facts['λ'], 2)}` }]
        "
      />
      <PlotChart
        v-else
        class="figure"
        :title="`What it learned: ${figure.title}`"
        v-bind="namedBars(figure.labels, figure.values, { color: 'var(--c3)' })"
      />
    </template>
    <label v-if="twinned" class="check">
      <Checkbox binary :model-value="comparing" @update:model-value="emit('compare', $event)" />
      compare plain and robust
    </label>
    <FactList :facts="told" />
    <p v-for="note in view.notes" :key="note" class="worse sentence">{{ note }}</p>
    <template v-if="after">
      <h2>After this stage</h2>
      <p class="sentence">{{ after.verdict }}</p>
      <table class="facts tests">
        <thead>
          <tr>
            <td>p-value</td>
            <td>before</td>
            <td>after</td>
          </tr>
        </thead>
        <tbody>
          <tr v-for="test in tests" :key="test.name" v-tip="test.verdict">
            <td>{{ test.name }}</td>
            <td class="number">{{ chance(test.before) }}</td>
            <td class="number">{{ chance(test.after) }}</td>
          </tr>
        </tbody>
      </table>
    </template>
  </template>
</template>

<style scoped>
.sentence {
  margin: 0;
}
.figure {
  flex: 0 0 130px;
}
.check {
  display: flex;
  gap: 6px;
}
.tests td {
  text-align: right;
  padding-left: 8px;
  font-size: 12px;
}
.tests td:first-child {
  text-align: left;
  padding: 4px 0;
}
.tests thead td {
  color: var(--ink-2);
}
</style>
