<script setup lang="ts">
import ChoiceField from '../../widgets/ChoiceField.vue'
import { computed, onBeforeUnmount, ref, watch, watchEffect } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { observedSeries, type LaneBand } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useLine } from '../../charts/useLine'
import { useAnswer } from '../../state/answers'
import { decimalsFor, fixed } from '../../state/format'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { markOf } from '../../theme/theme'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import RoomFrame from '../../widgets/RoomFrame.vue'
import { useExperiment } from '../walkforward/useExperiment'

const store = useProject()
const view = useView()
const id = computed(() => store.choices.outlook_id)
const { experiment } = useExperiment(
  computed(() => store.choices.experiment_id),
  false,
)
const points = useLine()
const line = points.data
const told = useAnswer(
  'outlook',
  () => (id.value ? { params: { path: { outlook_id: id.value }, query: { series: view.series } } } : null),
  (asked, signal): Promise<Shapes['OutlookView']> =>
    unwrap(client.GET('/api/v1/outlooks/{outlook_id}', { ...asked, signal })),
  { live: () => `outlook ${id.value}`, tick: () => store.tick(`outlook ${id.value}`) },
)
const outlook = told.data
const contender = ref('')
/** How columns that are known ahead go on where they end too early. */
const WAYS = ['given', 'hold last', 'same as last year'] as const
const ahead = ref<(typeof WAYS)[number]>('given')
const planned = computed(() =>
  (store.dataset?.columns ?? [])
    .filter((each) => each.role === 'known_ahead')
    .map((each) => String(each.name)),
)
watch(
  () => outlook.value?.contender,
  (now) => (contender.value = now ?? contender.value),
  { immediate: true },
)
const names = computed(() => experiment.value?.contenders ?? [])
watch(names, (now) => (contender.value ||= now[now.length - 1]?.name ?? ''))
const mark = computed(() => markOf(names.value, outlook.value?.contender ?? ''))

// The outlook starts at the end of the data: look there when the room opens.
watch(
  [() => outlook.value?.id, () => view.series],
  () => {
    const axis = store.axis
    if (!axis || !outlook.value?.times?.length) return
    const count = outlook.value.times.length
    view.span = [axis.time(axis.end - Math.max(count * 6, 24)), axis.time(axis.end + Math.ceil(count * 1.1))]
  },
  { immediate: true },
)

const lane = computed(() => {
  const origin = outlook.value?.origin && store.axis ? store.axis.time(outlook.value.origin - 1) : Infinity
  const forecast = outlook.value?.times?.length
    ? [
        {
          label: outlook.value.contender,
          points: { times: outlook.value.times, values: outlook.value.mean ?? [] },
          color: mark.value.css,
          dash: mark.value.dash,
          width: 2,
        },
      ]
    : []
  return [...(line.value ? observedSeries(line.value, origin) : []), ...forecast]
})
const bands = computed<LaneBand[]>(() =>
  (outlook.value?.levels ?? [])
    .map((level, i) => ({
      label: `${level}`,
      times: outlook.value?.times ?? [],
      low: outlook.value?.lower?.[i] ?? [],
      high: outlook.value?.upper?.[i] ?? [],
      color: mark.value.css,
      alpha: 0.18,
    }))
    .reverse(),
)
const picked = ref(0)
watch(
  () => outlook.value?.id,
  () => (picked.value = 0),
)
const decimals = computed(() => decimalsFor(outlook.value?.mean ?? []))
const steps = computed(() => (outlook.value?.times ?? []).map((time, at) => ({ at, time })))
const columns = computed<GridColumn<{ at: number; time: number }>[]>(() => [
  {
    name: 'time',
    title: 'time',
    text: (step) => store.axis?.input(step.time) ?? '',
    words: true,
    className: () => 'number',
  },
  {
    name: 'mean',
    title: 'mean',
    text: (step) => fixed(outlook.value?.mean?.[step.at], decimals.value),
    className: () => 'strong',
  },
  ...(outlook.value?.levels ?? []).flatMap((level, l) =>
    (['lower', 'upper'] as const).map((end) => ({
      name: `${end} ${level}`,
      title: `${fixed(level * 100, 0)} % ${end === 'lower' ? 'from' : 'to'}`,
      text: (step: { at: number }) => fixed(outlook.value?.[end]?.[l]?.[step.at], decimals.value),
    })),
  ),
])
const sentence = computed(() => {
  const each = outlook.value
  const axis = store.axis
  const at = each?.times?.[picked.value]
  if (!each?.mean || !axis || at === undefined) return ''
  const value = each.mean[picked.value]
  if (value === null || value === undefined) return `${view.key} has no forecast: it ended before.`
  const last = (each.levels?.length ?? 0) - 1
  const level = each.levels?.[last]
  const mean = `On ${axis.text(at)} ${view.key} will be ${fixed(value, decimals.value)} ${view.unit}`
  if (level === undefined) return `${mean}.`
  const range = `${fixed(each.lower?.[last]?.[picked.value], decimals.value)} and ${fixed(each.upper?.[last]?.[picked.value], decimals.value)}`
  return `${mean}, and with ${fixed(level * 100, 0)} % confidence between ${range} ${view.unit}.`
})

async function make() {
  if (!experiment.value || !contender.value) return
  const params = { path: { experiment_id: experiment.value.id } }
  if (
    await attempt(() =>
      unwrap(
        client.POST('/api/v1/experiments/{experiment_id}/outlooks', {
          params,
          body: { contender: contender.value, horizon: null, ahead: ahead.value },
        }),
      ),
    )
  )
    await store.reload()
}
watchEffect(() => {
  roomActions.run = () => void make()
  roomActions.stop = null
})
onBeforeUnmount(() => (roomActions.run = null))
</script>

<template>
  <RoomFrame strip needs-data>
    <template v-if="id">
      <TimeLane
        name="outlook"
        :title="`outlook by ${outlook?.contender ?? ''}`"
        :unit="view.unit"
        :series="lane"
        :bands="bands"
        :known-until="outlook?.origin && store.axis ? store.axis.time(outlook.origin - 1) : null"
        :note="outlook?.reason ?? undefined"
        :answer="points"
        show-time
        class="main"
      />
      <DataGrid
        v-if="outlook?.times?.length"
        class="list panel"
        label="Outlook table"
        :rows="steps"
        :columns="columns"
        :key-of="(step) => step.at"
        :selected="picked"
        :sortable="false"
        @select="picked = $event.at"
      />
      <p v-else-if="outlook?.state === 'failed'" class="worse">{{ outlook.reason }}</p>
      <p v-else-if="told.loading.value" class="second">Reading the outlook …</p>
      <p v-else-if="told.failure.value" class="worse" role="alert">
        {{ told.failure.value }} <button class="button" @click="told.again()">Try again</button>
      </p>
      <p v-else class="second">The refit on everything known is queued or running.</p>
    </template>
    <div v-else class="nothing">
      <h1>Outlook</h1>
      <p class="second">
        {{
          experiment
            ? 'No outlook yet: refit a contender on everything that is known.'
            : 'An outlook needs a judged contender: run an experiment in Walk-forward first.'
        }}
      </p>
    </div>
    <template #inspector>
      <h1>{{ outlook?.contender ?? 'Outlook' }}</h1>
      <p v-if="sentence" class="sentence">{{ sentence }}</p>
      <table v-if="outlook?.times?.length" class="facts">
        <tbody>
          <tr>
            <td>steps ahead</td>
            <td class="number">{{ outlook.times.length }}</td>
          </tr>
          <tr>
            <td>known up to</td>
            <td class="number">
              {{ outlook.origin && store.axis ? store.axis.input(store.axis.time(outlook.origin - 1)) : '' }}
            </td>
          </tr>
          <tr>
            <td>ranges from</td>
            <td class="number">{{ outlook.errors }} origins{{ outlook?.widened ? ', widened' : '' }}</td>
          </tr>
        </tbody>
      </table>
      <p class="second sentence">
        Ranges are this contender's own walk-forward errors at each step ahead, carried through its chain{{
          outlook?.widened ? '; so few are widened until they cover as often as they say' : ''
        }}.
      </p>
      <span class="grow"></span>
      <template v-if="experiment">
        <label>Contender <ChoiceField v-model="contender" :options="names.map((each) => each.name)" /></label>
        <label v-if="planned.length" :title="`Beyond the data: ${planned.join(', ')}`"
          >What lies ahead <ChoiceField v-model="ahead" :options="WAYS"
        /></label>
        <div class="buttons">
          <button class="button primary" @click="make">Refit and forecast (r)</button>
          <a
            v-if="outlook?.times?.length"
            class="button link"
            :href="`/api/v1/outlooks/${id}/table.csv`"
            download
            >CSV</a
          >
        </div>
      </template>
    </template>
  </RoomFrame>
</template>

<style scoped>
.main {
  flex: 3;
}
.list {
  flex: 2;
}
:deep(.strong) {
  font-weight: 600;
}
.sentence {
  margin: 0;
}
label {
  display: grid;
  gap: 4px;
  color: var(--ink-2);
}
.grow {
  flex: 1;
}
.buttons {
  display: flex;
  gap: 8px;
}
.link {
  display: inline-flex;
  align-items: center;
  text-decoration: none;
  color: inherit;
}
.nothing {
  margin: auto;
  text-align: center;
}
</style>
