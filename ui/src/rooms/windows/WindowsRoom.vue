<script setup lang="ts">
import FoldedPart from '../../widgets/FoldedPart.vue'
import ChoiceField from '../../widgets/ChoiceField.vue'
import { useLocalStorage } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { count, fixed, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import LeftOutList from './LeftOutList.vue'
import LeakSeal from './LeakSeal.vue'
import PlanForm from './PlanForm.vue'
import PlanPresets from './PlanPresets.vue'
import PlanSchematic from './PlanSchematic.vue'
import PlanTextBox from './PlanTextBox.vue'
import RowTable from './RowTable.vue'
import TakeTable from './TakeTable.vue'
import { useSpan } from './useSpan'
import { useWindowTable } from './useWindowTable'

const store = useProject()
const view = useView()
const { plan, cut, chain, every, table, columns, complaint, target, busy, loading, change, forget } =
  useWindowTable()
const lit = ref<string | null>(null)
const row = ref<{ position: number; series: number } | null>(null)
const reason = ref<string | null>(null)
const fields = useLocalStorage('window fields', false)
watch([every, () => view.series, () => store.dataset?.id], () => ((row.value = null), (reason.value = null)))

/** The grid position of the lit row, and the series it belongs to. */
const origin = computed(() => row.value?.position ?? view.cutoff - 1)
const rowSeries = computed(() => (every.value ? (row.value?.series ?? view.series) : view.series))
const reach = computed<[number, number]>(() => {
  const back = Math.max(24, table.value?.look_back ?? 24, ...((plan.value.lags ?? []) as number[]))
  const ahead = Math.max(1, ...((plan.value.horizon ?? [1]) as number[]))
  return [
    origin.value - Math.ceil(back * 1.2) - 2,
    origin.value + Math.ceil(Math.max(ahead * 1.2, back / 6)) + 2,
  ]
})
const line = useSpan(
  () => ({
    plan: cut.value,
    chain: chain.value,
    until: view.cutoff,
    table: every.value ? null : view.series,
    series: every.value ? rowSeries.value : 0,
  }),
  () => reach.value,
)
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
/** Which absolute times went into the lit column of the lit row, and what was there. */
const arithmetic = computed(() => {
  const source = table.value?.sources.find((each) => each.name === lit.value)
  const axis = store.axis
  if (!axis || !lit.value) return ''
  const ahead = /^\+(\d+)$/.exec(lit.value)
  const first = source?.first ?? Number(ahead?.[1] ?? NaN)
  const last = source?.last ?? first
  if (!Number.isFinite(first)) return ''
  const at = (step: number) => axis.text(axis.time(origin.value + step))
  const value = line.value.values[origin.value + first - line.value.start]
  const own = source ? source.kind === 'lags' : true
  if (first !== last) return `${lit.value} ← ${source?.whole ? 'everything' : at(first)} … ${at(last)}`
  return `${lit.value} ← ${at(first)}${own && value != null ? ` → ${number(value)} ${view.flat ? '' : view.unit}` : ''}`
})
const alike = computed(() =>
  (columns.value?.columns ?? [])
    .filter((each, i, all) => {
      if (!each.nearest || Math.abs(each.likeness ?? 0) < 0.95) return false
      const other = all.findIndex((one) => one.name === each.nearest)
      return all[other]?.nearest !== each.name || i < other
    })
    .sort((a, b) => Math.abs(b.likeness ?? 0) - Math.abs(a.likeness ?? 0))
    .slice(0, 4),
)
const dropped = computed(() => Object.entries(table.value?.dropped ?? {}).filter(([, n]) => n > 0))
</script>

<template>
  <RoomFrame strip needs-data :rows="touched">
    <section class="panel plan" aria-label="One row, drawn to scale">
      <header>
        <h2>One row, drawn to scale</h2>
        <span class="second number">origin {{ store.axis?.text(store.axis.time(origin)) }}</span>
        <span v-if="view.flat" class="second">flat units</span>
        <span class="chip number">{{ arithmetic }}</span>
      </header>
      <PlanSchematic
        v-if="table"
        :sources="table.sources"
        :plan="plan"
        :lit="lit"
        :origin="origin"
        :line="line"
        :label="store.dataset?.series[rowSeries]?.key ?? ''"
        @light="lit = $event"
        @change="change"
      />
    </section>
    <LeftOutList
      v-if="reason && cut"
      :plan="cut"
      :chain="chain"
      :until="view.cutoff"
      :series="every ? null : view.series"
      :reason="reason"
      @row="(position, series) => (row = { position, series })"
      @close="reason = null"
    />
    <RowTable
      v-else-if="table && cut"
      :table="table"
      :columns="columns"
      :plan="cut"
      :chain="chain"
      :until="view.cutoff"
      :series="every ? null : view.series"
      :lit="lit"
      @row="(position, series) => (row = position === null ? null : { position, series })"
      @column="lit = $event"
      @target="target = $event"
    />
    <template #inspector>
      <h1>Window plan</h1>
      <PlanPresets :text="table?.text ?? ''" :plan="plan" :horizon="plan.horizon ?? [1]" @change="change" />
      <PlanTextBox :text="table?.text ?? ''" :waiting="loading" @change="change" />
      <p v-if="complaint" class="refused">
        <span v-if="!fields" class="worse" role="alert">{{ complaint.detail }}</span>
        The table is still that of the last plan.
        <button class="button quiet" @click="forget">Back to it</button>
      </p>
      <FoldedPart :open="fields" @toggle="fields = $event" title="Fields">
        <PlanForm :plan="plan" :complaint="complaint" @change="change" />
      </FoldedPart>
      <table v-if="table" class="facts" :aria-busy="busy">
        <tbody>
          <tr>
            <td>
              rows of
              <ChoiceField
                class="inline"
                label="Series in the table"
                :model-value="every ? 'all series' : 'this series'"
                :options="['this series', 'all series']"
                @update:model-value="every = $event === 'all series'"
              />
            </td>
            <td class="number">{{ count(table.total) }}</td>
          </tr>
          <tr v-for="[why, n] in dropped" :key="why">
            <td>
              <button
                class="reason"
                :aria-pressed="reason === why"
                @click="reason = reason === why ? null : why"
              >
                left out: {{ why }}
              </button>
            </td>
            <td class="number">{{ count(n) }}</td>
          </tr>
          <tr>
            <td>features × targets</td>
            <td class="number">{{ table.names.length }} × {{ table.target_names.length }}</td>
          </tr>
        </tbody>
      </table>
      <div v-if="alike.length">
        <h2>Nearly the same information</h2>
        <table class="facts">
          <tbody>
            <tr v-for="each in alike" :key="each.name" @mouseenter="lit = each.name">
              <td class="number">{{ each.name }} · {{ each.nearest }}</td>
              <td class="number">r {{ fixed(each.likeness, 3) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <LeakSeal :plan="plan" :chain="chain" />
      <span class="grow"></span>
      <TakeTable :plan="plan" :chain="chain" />
    </template>
  </RoomFrame>
</template>

<style scoped>
.plan header {
  display: flex;
  gap: 12px;
  align-items: baseline;
  padding: 6px 12px;
  white-space: nowrap;
}
.chip {
  margin-left: auto;
  overflow: hidden;
  text-overflow: ellipsis;
  font-size: 12px;
}
.reason {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  text-align: left;
  cursor: pointer;
  text-decoration: underline dotted;
  text-underline-offset: 3px;
}
.reason[aria-pressed='true'] {
  font-weight: 600;
}
.refused {
  margin: 0;
  color: var(--ink-2);
}
.inline {
  height: 22px;
  padding: 0 4px;
}
.grow {
  flex: 1;
}
</style>
