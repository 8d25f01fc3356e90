<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import PlotChart from '../../charts/PlotChart.vue'
import type { PlotSeries } from '../../charts/plot'
import { useAnswer } from '../../state/answers'
import { count, counted, fixed } from '../../state/format'
import { useProject } from '../../state/project'
import FactList from '../../widgets/FactList.vue'

/** How this outlook fared, and those before it: errors against what was promised, ranges, drift; one key refits. */
const props = defineProps<{ outlook: Shapes['OutlookView'] }>()
const emit = defineEmits<{ look: [id: number]; refit: [] }>()
const store = useProject()
const { data } = useAnswer(
  'held to',
  () =>
    store.project
      ? {
          params: { path: { project_id: store.project.id } },
          of: props.outlook.id,
          newest: store.dataset?.id,
        }
      : null,
  (asked, signal): Promise<Shapes['OutlooksView']> =>
    unwrap(client.GET('/api/v1/projects/{project_id}/outlooks', { params: asked.params, signal })),
  {
    aside: true,
    live: () => `outlook ${props.outlook.id}`,
    tick: () => store.tick(`outlook ${props.outlook.id}`),
  },
)
const all = computed(() => (data.value?.outlooks ?? []).filter((each) => each.state === 'done'))
const mine = computed(
  () => all.value.find((each) => each.id === (props.outlook.of ?? props.outlook.id)) ?? null,
)
const come = computed(() => all.value.filter((each) => each.of > 0))
const bars = computed<PlotSeries[]>(() => {
  const told = mine.value
  if (!told?.of) return []
  const x = told.error.slice(0, told.known).map((_, n) => n + 1)
  const ratio = x.map((n) => {
    const [error, promised] = [told.error[n - 1], told.promised[n - 1]]
    return error == null || !promised ? null : error / promised
  })
  return [
    { label: 'error over promised', kind: 'bars', x, y: ratio, color: 'var(--ink-3)' },
    {
      label: 'as promised',
      kind: 'line',
      x,
      y: x.map(() => 1),
      color: 'var(--ink)',
      dash: [4, 3],
    },
  ]
})
/** When an outlook was made, to the minute. */
const issued = (text: string) => `Made ${text.slice(0, 16).replace('T', ' ')} UTC`
const NAMES = { 'as promised': 'as promised', drifted: 'has drifted', 'nothing came': 'nothing came yet' }
const facts = computed(() =>
  (mine.value?.levels ?? []).map((level, n) => ({
    name: `${fixed(level * 100, 0)} % ranges held`,
    value:
      mine.value?.held[n] == null
        ? ''
        : `${fixed((mine.value.held[n] ?? 0) * 100, 1)} % of ${count(mine.value.of)}`,
  })),
)
</script>

<template>
  <section>
    <p v-if="data" class="second">
      {{ counted(all.length, 'outlook') }}, truth has come for {{ come.length || 'none' }}
    </p>
    <template v-if="mine">
      <PlotChart
        v-if="bars.length"
        class="bars"
        title="error against promised"
        x-label="step"
        from-zero
        :series="bars"
      />
      <p :class="['sentence', mine.verdict === 'drifted' ? 'worse' : '']">{{ mine.sentence }}</p>
      <FactList v-if="mine.of" :facts="facts" />
      <button v-if="mine.newer" class="button" @click="emit('refit')">
        Refit on version {{ mine.version }} (f)
      </button>
    </template>
    <table v-if="all.length > 1" class="facts" aria-label="Earlier outlooks">
      <tbody>
        <tr v-for="each in all" :key="each.id">
          <td>
            <button class="link" :aria-current="each.id === outlook.id" @click="emit('look', each.id)">
              {{ each.contender }}, {{ counted(each.horizon, 'step') }}
            </button>
          </td>
          <td
            :class="each.verdict === 'drifted' ? 'worse' : ''"
            v-tip="`${issued(each.issued)}. ${each.sentence}`"
          >
            {{ NAMES[each.verdict] }}
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.bars {
  height: 110px;
}
.sentence,
p {
  margin: 0 0 4px;
}
.link[aria-current='true'] {
  font-weight: 600;
}
</style>
