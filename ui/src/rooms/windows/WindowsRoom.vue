<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { attempt, client, download, unwrap, type Shapes } from '../../api/client'
import { observedSeries } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useFetched, useLine } from '../../charts/useLine'
import { count } from '../../state/format'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import PlanForm from './PlanForm.vue'
import PlanSchematic from './PlanSchematic.vue'
import PlanTextBox from './PlanTextBox.vue'
import RowTable from './RowTable.vue'
import type { Plan } from './planText'

const store = useProject()
const view = useView()
const fallback = computed<Plan>(() => {
  const season = Math.round(store.axis?.grid.seasons[0] ?? 4)
  const lags = Array.from({ length: Math.min(season, 48) }, (_, i) => i + 1)
  return {
    schema_version: 1,
    lags,
    rolling: [],
    calendar: [],
    covariates: [],
    more: [],
    half_life: null,
    by_scale: false,
    horizon: [1],
    stride: 1,
    missing: 'drop',
  }
})
const plan = computed<Plan>(() => store.choices.plan ?? fallback.value)
const chain = computed(() => (view.flat ? (store.choices.chain ?? []) : []))
const lit = ref<string | null>(null)
const rowPosition = ref<number | null>(null)
const leak = ref<Shapes['LeakView'] | null>(null)
const checking = ref(false)
const { data: line } = useLine()

const { data: table, busy } = useFetched<Shapes['WindowsView']>(
  () => [store.dataset?.id, view.series, plan.value, chain.value, view.cutoff],
  (signal) => {
    if (!store.dataset) return null
    const params = { path: { dataset_id: store.dataset.id } }
    const body = {
      plan: plan.value,
      chain: chain.value,
      until: view.cutoff,
      series: view.series,
      offset: 0,
      limit: 0,
      find: view.cutoff - 1,
    }
    return unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows', { params, body, signal }))
  },
  80,
)
watch([plan, chain, () => store.dataset?.id], () => (leak.value = null))

const change = (next: Plan) => void attempt(() => store.choose({ plan: next }))
function toggleLag(lag: number) {
  const lags = new Set(plan.value.lags ?? [])
  if (!lags.delete(lag)) lags.add(lag)
  change({ ...plan.value, lags: [...lags].sort((a, b) => a - b) })
}

async function check() {
  if (!store.dataset || checking.value) return
  checking.value = true
  const params = { path: { dataset_id: store.dataset.id } }
  const body = { plan: plan.value, chain: store.choices.chain ?? [], origins: 8, seed: 0 }
  leak.value =
    (await attempt(() =>
      unwrap(client.POST('/api/v1/datasets/{dataset_id}/leak-check', { params, body })),
    )) ?? null
  checking.value = false
}
roomActions.run = () => void check()

const FORMATS = {
  Parquet: 'application/vnd.apache.parquet',
  Arrow: 'application/vnd.apache.arrow.stream',
  CSV: 'text/csv',
  NPZ: 'application/x-npz',
}
const parted = ref(false)
const asked = () =>
  JSON.stringify({
    plan: plan.value,
    chain: chain.value,
    until: view.cutoff,
    shares: parted.value ? [0.7, 0.15, 0.15] : null,
  })
function takeCard() {
  const init = { method: 'POST', body: asked(), headers: { 'Content-Type': 'application/json' } }
  void attempt(() =>
    download(`/api/v1/datasets/${store.dataset?.id}/windows/card`, 'windows-card.json', init),
  )
}
function take(format: keyof typeof FORMATS) {
  const body = asked()
  const init = {
    method: 'POST',
    body,
    headers: { 'Content-Type': 'application/json', Accept: FORMATS[format] },
  }
  void attempt(() =>
    download(`/api/v1/datasets/${store.dataset?.id}/windows/table`, `windows.${format.toLowerCase()}`, init),
  )
}

/** Times of the points the lit row reads, for the Strip, and of the lit column alone for the lane. */
const origin = computed(() => rowPosition.value ?? view.cutoff - 1)
const touched = computed(() => {
  const axis = store.axis
  if (!axis || !table.value) return []
  const steps = new Set<number>()
  for (const source of table.value.sources) {
    if (lit.value && source.name !== lit.value) continue
    if (source.first > 0) continue
    for (let step = source.first; step <= source.last && steps.size < 4000; step++) steps.add(step)
  }
  return [...steps].map((step) => axis.time(origin.value + step)).sort((a, b) => a - b)
})
const arithmetic = computed(() => {
  const source = table.value?.sources.find((each) => each.name === lit.value)
  const axis = store.axis
  if (!source || !axis) return ''
  const from = axis.text(axis.time(origin.value + source.first))
  return source.first === source.last
    ? `${source.name} ← ${from}`
    : `${source.name} ← ${from} … ${axis.text(axis.time(origin.value + source.last))}`
})
const lane = computed(() => {
  if (!line.value || !store.axis) return []
  const observed = observedSeries(line.value, store.axis.time(view.cutoff - 1))
  const at = new Map(line.value.times.map((time, i) => [time, line.value?.values[i] ?? null]))
  const values = touched.value.map((time) => at.get(time) ?? null)
  return [
    ...observed,
    {
      label: 'read by this row',
      points: { times: touched.value, values },
      color: 'var(--c1)',
      width: 3,
      dots: true,
    },
  ]
})
const dropped = computed(() => Object.entries(table.value?.dropped ?? {}))
const evidence = computed(
  () =>
    leak.value?.evidence as
      | {
          origins: number
          cells: number
          recomputations: number
          leaks: { what: string }[]
          warnings: string[]
        }
      | undefined,
)
</script>

<template>
  <RoomFrame strip needs-data :rows="touched">
    <TimeLane
      name="observed"
      :title="view.key"
      :unit="view.unit"
      :series="lane"
      show-time
      class="lane"
      :note="arithmetic"
    />
    <section class="panel plan" aria-label="One row, drawn to scale">
      <header>
        <h2>One row, drawn to scale</h2>
        <span class="second"
          >origin {{ store.axis?.text(store.axis.time(origin)) }}{{ view.flat ? ', flat units' : '' }}</span
        >
      </header>
      <PlanSchematic
        v-if="table"
        :sources="table.sources"
        :plan="plan"
        :lit="lit"
        @light="lit = $event"
        @toggle="toggleLag"
      />
    </section>
    <RowTable
      v-if="table"
      :total="table.total"
      :names="table.names"
      :targets="table.target_names"
      :plan="plan"
      :chain="chain"
      :until="view.cutoff"
      :lit="lit"
      :found="table.found ?? null"
      @row="rowPosition = $event"
      @column="lit = $event"
    />
    <template #inspector>
      <h1>Window plan</h1>
      <PlanTextBox :text="table?.text ?? ''" @change="change" />
      <PlanForm :plan="plan" @change="change" />
      <table v-if="table" class="facts" :aria-busy="busy">
        <tbody>
          <tr>
            <td>rows of this series</td>
            <td class="number">{{ count(table.total) }}</td>
          </tr>
          <tr v-for="[reason, n] in dropped" :key="reason">
            <td>left out: {{ reason }}</td>
            <td class="number">{{ count(n) }}</td>
          </tr>
          <tr>
            <td>features × targets</td>
            <td class="number">{{ table.names.length }} × {{ table.target_names.length }}</td>
          </tr>
        </tbody>
      </table>
      <div class="seal" :class="{ failed: leak && !leak.passed }">
        <template v-if="leak && evidence">
          <h2>{{ leak.passed ? 'Leak check passed' : 'Leak found' }}</h2>
          <p>
            Future replaced at <span class="number">{{ evidence.origins }}</span> origins,
            <span class="number">{{ count(evidence.cells) }}</span> cells recomputed in
            <span class="number">{{ evidence.recomputations }}</span> runs:
            {{ leak.passed ? 'none changed' : evidence.leaks.map((each) => each.what).join(', ') }}.
          </p>
          <p v-for="warning in evidence.warnings" :key="warning" class="worse">{{ warning }}</p>
        </template>
        <template v-else
          ><h2>Leak check</h2>
          <p>Replaces the future by noise, recomputes, compares every bit.</p></template
        >
        <button class="button" :disabled="checking" @click="check">
          {{ checking ? 'Checking' : leak ? 'Run again' : 'Run (r)' }}
        </button>
      </div>
      <span class="grow"></span>
      <label
        title="A column that says train, validation, test or gap; no part learns from what another is judged on"
      >
        <input v-model="parted" type="checkbox" /> with parts in time, 70 : 15 : 15
      </label>
      <div class="buttons">
        <button
          v-for="(_, format) in FORMATS"
          :key="format"
          class="button"
          :class="{ primary: format === 'Parquet' }"
          @click="take(format)"
        >
          {{ format === 'Parquet' ? 'Take table, Parquet' : format }}
        </button>
        <button class="button" title="What the table is: dataset, plan, chain, columns" @click="takeCard">
          Card
        </button>
      </div>
    </template>
  </RoomFrame>
</template>

<style scoped>
.lane {
  flex: 0 0 120px;
}
.plan header {
  display: flex;
  gap: 12px;
  padding: 6px 12px;
}
.seal {
  background: var(--selection);
  border-radius: 3px;
  padding: 8px 12px;
}
.seal p {
  margin: 4px 0 8px;
  color: var(--ink-2);
}
.failed {
  outline: 1px solid var(--worse);
}
.grow {
  flex: 1;
}
.buttons {
  display: flex;
  gap: 6px;
}
.buttons .button {
  padding: 0 8px;
}
</style>
