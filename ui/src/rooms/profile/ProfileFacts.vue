<script setup lang="ts">
import { computed, ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { chance, count, fixed, number } from '../../state/format'
import { useProject, type Choices } from '../../state/project'
import { useView } from '../../state/view'
import FactList from '../../widgets/FactList.vue'
import { useProfilePart, useShownUnit } from './useProfile'

/** Facts, the joint verdict, every test, and what could be done about it. */
const store = useProject()
const view = useView()
const unit = useShownUnit()
const { data: profile, busy } = useProfilePart<Shapes['ProfileView']>('facts', ({ params, body, signal }) =>
  unwrap(client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile', { params, body, signal })),
)
type Stage = NonNullable<Choices['chain']>[number]
const has = (stage: Record<string, unknown>) =>
  (store.choices.chain ?? []).some(
    (each) =>
      each.kind === stage.kind &&
      (!('period' in stage) || (each as Record<string, unknown>).period === stage.period),
  )
async function add(stage: Record<string, unknown>) {
  await attempt(() => store.choose({ chain: [...(store.choices.chain ?? []), stage as unknown as Stage] }))
}

const broken = ref<Shapes['TestView'] | null>(null)
async function breakAtCutoff() {
  if (!store.dataset || !store.axis) return
  const at = view.selection
    ? store.axis.position(view.selection[0])
    : store.axis.position((view.span[0] + view.span[1]) / 2)
  const params = { path: { dataset_id: store.dataset.id, series: view.series } }
  broken.value =
    (await attempt(() =>
      unwrap(
        client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/break', {
          params,
          body: { until: view.cutoff, chain: [], at },
        }),
      ),
    )) ?? null
}
const told = computed(() => {
  const of = profile.value
  if (!of) return []
  const strengths = [...(of.trend == null ? [] : [{ name: 'trend', strength: of.trend }]), ...of.seasons]
  return [
    { name: 'known points', value: count(of.known) },
    { name: 'missing, filled', value: `${count(of.missing)}, ${count(of.filled)}` },
    { name: 'mean ± spread', value: `${number(of.mean)} ± ${number(of.spread, 3)} ${unit.value}` },
    { name: 'lowest, highest', value: `${number(of.lowest)}, ${number(of.highest)}` },
    ...strengths.map((each) => ({ name: `strength of ${each.name}`, value: fixed(each.strength, 2) })),
    { name: 'spectral entropy', value: fixed(of.entropy, 2) },
    { name: 'zeros, demand', value: `${fixed((of.zeros ?? 0) * 100, 1)} %, ${of.demand}` },
  ]
})
</script>

<template>
  <h1>{{ view.key }}</h1>
  <div v-if="profile" class="all" :aria-busy="busy">
    <p class="verdict">{{ profile.verdict }}</p>
    <template v-if="profile.suggestions.length">
      <div v-for="(each, i) in profile.suggestions" :key="i" class="suggestion">
        <span class="second">{{ each.why }}</span>
        <button class="button" :disabled="has(each.stage)" @click="add(each.stage)">
          {{ has(each.stage) ? `${each.title}: in the chain` : `Add ${each.title} to the chain` }}
        </button>
      </div>
    </template>
    <FactList :facts="told" />
    <h2>Tests</h2>
    <table class="tests">
      <tbody>
        <tr
          v-for="test in profile.tests"
          :key="test.name"
          v-tip="`Null: ${test.null}. ${test.verdict} ${test.lags} lags.`"
        >
          <td>
            {{ test.name }}
            <span class="second said">{{ test.verdict }}</span>
          </td>
          <td class="number">{{ number(test.statistic, 3) }}</td>
          <td class="number" :class="{ strong: (test.p_value ?? 1) < 0.05 }">{{ chance(test.p_value) }}</td>
        </tr>
        <tr v-for="(reason, name) in profile.refused" :key="name">
          <td colspan="3" class="second">{{ name }}: {{ reason }}</td>
        </tr>
        <tr v-if="broken">
          <td>
            {{ broken.name }} <span class="second said">{{ broken.verdict }}</span>
          </td>
          <td class="number">{{ number(broken.statistic, 3) }}</td>
          <td class="number">{{ chance(broken.p_value) }}</td>
        </tr>
      </tbody>
    </table>
    <button class="button" @click="breakAtCutoff">
      Test a break {{ view.selection ? 'where the selection begins' : 'in the middle of the view' }}
    </button>
    <p class="second">Statistic and p-value; tests read the last {{ count(profile.tested) }} known points.</p>
  </div>
  <p v-else class="second">{{ busy ? 'Computing' : 'Nothing is known here.' }}</p>
</template>

<style scoped>
.all {
  display: flex;
  flex-direction: column;
  gap: 10px;
}
.all p {
  margin: 0;
}
.verdict {
  font-weight: 600;
}
.suggestion {
  display: flex;
  flex-direction: column;
  gap: 4px;
}
.suggestion .button {
  white-space: normal;
  height: auto;
  min-height: 28px;
}
.tests {
  width: 100%;
  border-collapse: collapse;
}
.tests td {
  padding: 3px 0 3px 8px;
  border-bottom: 1px solid var(--hairline);
  vertical-align: top;
  text-align: right;
}
.tests .number {
  white-space: nowrap;
}
.tests td:first-child {
  text-align: left;
  padding-left: 0;
}
.said {
  display: block;
  font-size: 12px;
}
.strong {
  font-weight: 600;
}
</style>
