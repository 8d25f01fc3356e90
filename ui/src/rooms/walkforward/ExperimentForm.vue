<script setup lang="ts">
import ChoiceField from '../../widgets/ChoiceField.vue'
import InputText from 'primevue/inputtext'
import NumberField from '../../widgets/NumberField.vue'
import { computed, ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import SettingsForm from '../../widgets/SettingsForm.vue'
import EntryForm from './EntryForm.vue'
import MeasuresField from './MeasuresField.vue'

/** A new experiment, or a copy of one to vary: folds, baseline, contenders with chain and plan. */
type Entry = Shapes['NewExperiment']['contenders'][number]
const props = defineProps<{ source: Shapes['ExperimentView'] | null }>()
const emit = defineEmits<{ close: [] }>()
const store = useProject()
const view = useView()
const season = Math.round(store.axis?.grid.seasons[0] ?? 1)
const name = ref(props.source ? `${props.source.name}, varied` : 'first look')
const seed = ref(props.source?.seed ?? 1)
const horizon = season > 1 ? Math.min(season * 2, Math.floor((store.axis?.end ?? 100) / 20) || 1) : 6
// A copy starts from the very settings of its source, not from what became of them.
const folds = ref<Record<string, unknown>>(
  props.source ? { ...props.source.design } : { kind: 'expanding', count: 8, horizon, gap: 0 },
)
const metrics = ref(props.source?.metrics ?? store.catalogue?.default_metrics ?? [])
const entries = ref<Entry[]>(
  props.source
    ? (JSON.parse(JSON.stringify(props.source.contenders.map((each) => each.document))) as Entry[])
    : ([
        ...(season > 1
          ? [{ name: 'same season last cycle', forecaster: { kind: 'seasonal_last_value' }, chain: [] }]
          : []),
        { name: 'last value', forecaster: { kind: 'last_value' }, chain: [] },
        { name: 'drift', forecaster: { kind: 'drift' }, chain: [] },
        { name: 'mean so far', forecaster: { kind: 'mean' }, chain: [] },
        { name: 'Ridge on windows', forecaster: { kind: 'ridge' }, chain: store.choices.chain ?? [] },
        { name: 'Dense on windows', forecaster: { kind: 'dense_network' }, chain: store.choices.chain ?? [] },
      ] as Entry[]),
)
const selected = ref(entries.value.length - 1)
const baseline = ref(props.source?.baseline ?? entries.value[0]?.name ?? '')
const entry = computed(() => entries.value[selected.value])
const kinds = computed(() =>
  Object.entries(store.catalogue?.forecasters ?? {}).map(([kind, schema]) => ({
    kind,
    title: String((schema as Record<string, unknown>).title),
    group: String((schema as Record<string, unknown>).group),
    can: (((schema as Record<string, unknown>).can ?? []) as string[]).join(', '),
  })),
)
const { data: suited } = useAnswer(
  'suited',
  () =>
    store.dataset && {
      params: {
        path: { dataset_id: store.dataset.id },
        query: { series: view.series, until: view.cutoff },
      },
    },
  (asked, signal): Promise<Shapes['SuitedView']> =>
    unwrap(client.GET('/api/v1/datasets/{dataset_id}/suited', { ...asked, signal })),
)
const reasonOf = (kind: string) => suited.value?.reasons[kind] ?? ''
const offered = computed(() =>
  kinds.value.map((each) => ({
    value: each.kind,
    group: each.group,
    label: `${reasonOf(each.kind) ? '– ' : ''}${each.title}${each.can ? ` (${each.can})` : ''}`,
    hint: reasonOf(each.kind) || (each.can ? `knows ${each.can}` : ''),
  })),
)
function update(change: Partial<Entry>) {
  entries.value = entries.value.map((each, i) => (i === selected.value ? { ...each, ...change } : each))
}
function add(kind: string) {
  const title = kinds.value.find((each) => each.kind === kind)?.title ?? kind
  let called = title
  for (let i = 2; entries.value.some((each) => each.name === called); i++) called = `${title} ${i}`
  entries.value = [...entries.value, { name: called, forecaster: { kind }, chain: [] } as unknown as Entry]
  selected.value = entries.value.length - 1
}
function remove(index: number) {
  entries.value = entries.value.filter((_, i) => i !== index)
  selected.value = Math.max(0, Math.min(selected.value, entries.value.length - 1))
}
function rename(text: string) {
  if (baseline.value === entry.value?.name) baseline.value = text
  update({ name: text })
}

async function start() {
  if (!store.dataset || !store.project) return
  const body = {
    dataset_id: store.dataset.id,
    name: name.value,
    purpose: 'judge',
    seed: seed.value,
    folds: folds.value,
    metrics: metrics.value,
    ...(props.source ? { levels: props.source.levels } : {}),
    baseline: baseline.value,
    contenders: entries.value,
    run: true,
  } as unknown as Shapes['NewExperiment']
  const params = { path: { project_id: store.project.id } }
  const made = await attempt(() =>
    unwrap(client.POST('/api/v1/projects/{project_id}/experiments', { params, body })),
  )
  if (!made) return
  await store.reload()
  emit('close')
}
</script>

<template>
  <div class="experiment">
    <section class="panel">
      <h1>Experiment</h1>
      <label><span class="second">Name</span><InputText v-model="name" class="field" /></label>
      <label><span class="second">Seed</span><NumberField v-model="seed" :min="0" /></label>
      <label>
        <span class="second">Baseline</span>
        <ChoiceField v-model="baseline" :options="entries.map((each) => each.name)" />
      </label>
      <label><span class="second">Error measures</span><MeasuresField v-model="metrics" /></label>
      <h2>Folds</h2>
      <SettingsForm v-model="folds" :schema="(store.catalogue?.folds ?? {}) as Record<string, unknown>" />
    </section>
    <section class="panel">
      <h1>Contenders</h1>
      <ul>
        <li v-for="(each, i) in entries" :key="i" :class="{ here: i === selected }">
          <button class="as-text" @click="selected = i">{{ each.name }}</button>
          <button class="as-text second" :aria-label="`Remove ${each.name}`" @click="remove(i)">×</button>
        </li>
      </ul>
      <label>
        <span class="second">Add</span>
        <ChoiceField
          label="Add"
          model-value=""
          placeholder="a contender"
          :options="offered"
          @update:model-value="add"
        />
      </label>
    </section>
    <EntryForm
      v-if="entry"
      :key="selected"
      :entry="entry"
      :unsuited="reasonOf(entry.forecaster.kind ?? '')"
      @change="update"
      @rename="rename"
    />
    <div class="foot">
      <button class="button primary" :disabled="!entries.length || !metrics.length" @click="start">
        Run
      </button>
      <button class="button" @click="emit('close')">Leave it</button>
    </div>
  </div>
</template>

<style scoped>
.experiment {
  height: 100%;
  overflow: auto;
  padding: 12px 16px;
  display: grid;
  grid-template: minmax(0, 1fr) auto / 320px 300px minmax(320px, 460px);
  gap: 8px;
}
section {
  padding: 12px 16px;
  display: flex;
  flex-direction: column;
  gap: 8px;
  overflow: auto;
}
label {
  display: grid;
  grid-template-columns: 90px minmax(0, 1fr);
  align-items: center;
  gap: 8px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: flex;
  justify-content: space-between;
  border-bottom: 1px solid var(--hairline);
}
.here {
  background: var(--selection);
  font-weight: 500;
}
.as-text {
  border: 0;
  background: none;
  padding: 6px 8px;
  cursor: pointer;
  text-align: left;
}
p {
  margin: 0;
}
.foot {
  display: flex;
  gap: 8px;
}
.foot {
  grid-column: 1 / -1;
}
</style>
