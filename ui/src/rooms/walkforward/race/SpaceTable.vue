<script setup lang="ts">
import { computed, watch } from 'vue'
import { seconds } from '../../../state/format'
import { useProject } from '../../../state/project'
import { useView } from '../../../state/view'
import { useCosts } from '../layout/useCosts'
import type { Entry } from '../layout/useLayout'
import type { Family } from './useSearch'

/** What is to be searched: families in the order they are tried, what varies, and what a fit costs here. */
const props = defineProps<{ families: Family[] }>()
const left = defineModel<string[]>('left', { required: true })
const store = useProject()
const view = useView()
const costs = useCosts(store.dataset?.id ?? 0, view.series, view.cutoff)
const entryOf = (family: Family) =>
  ({ name: family.forecaster.kind, forecaster: family.forecaster, chain: [] }) as unknown as Entry
watch(
  () => props.families,
  (now) => now.forEach((each) => costs.want(entryOf(each))),
  { immediate: true },
)
const rows = computed(() =>
  props.families.map((each) => {
    const cost = costs.of(entryOf(each))
    const chains = (each.chains ?? []).map(
      (chain) => chain.stages?.map((stage) => stage.kind).join(' · ') || 'none',
    )
    return {
      kind: String(each.forecaster.kind),
      title: String(
        store.catalogue?.forecasters[String(each.forecaster.kind)]?.title ?? each.forecaster.kind,
      ),
      chains: chains.join(', ').replaceAll('_', ' '),
      plans: (each.plans ?? []).length > 1 ? `${each.plans?.length} window plans` : '',
      varied: (each.ranges ?? []).map(
        (range) => `${range.setting.replaceAll('_', ' ')} ${range.low} … ${range.high}`,
      ),
      cost: !cost
        ? 'measuring'
        : 'problem' in cost
          ? cost.problem
          : cost.seconds === null
            ? `over ${seconds(cost.limit)}`
            : cost.seconds < 0.1
              ? 'under 0.1 s'
              : `${cost.seconds.toFixed(1)} s`,
    }
  }),
)
function toggle(kind: string) {
  left.value = left.value.includes(kind) ? left.value.filter((each) => each !== kind) : [...left.value, kind]
}
</script>

<template>
  <table class="space" aria-label="What is searched">
    <thead>
      <tr>
        <th scope="col"></th>
        <th scope="col">family</th>
        <th scope="col">behind chains</th>
        <th scope="col">varied</th>
        <th scope="col" class="number">one fit here</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="each in rows" :key="each.kind" :class="{ out: left.includes(each.kind) }">
        <td>
          <input
            type="checkbox"
            :checked="!left.includes(each.kind)"
            :aria-label="`Search ${each.title}`"
            @change="toggle(each.kind)"
          />
        </td>
        <td>{{ each.title }}</td>
        <td class="second">{{ each.chains }}</td>
        <td class="second">{{ [each.plans, ...each.varied].filter(Boolean).join(', ') || 'nothing' }}</td>
        <td class="number second">{{ each.cost }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.space {
  width: 100%;
  border-collapse: collapse;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--ink-2);
}
th,
td {
  padding: 3px 8px;
  border-bottom: 1px solid var(--hairline);
}
.number {
  text-align: right;
}
.out td:not(:first-child) {
  opacity: 0.4;
}
</style>
