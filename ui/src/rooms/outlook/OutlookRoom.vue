<script setup lang="ts">
import { computed, nextTick, onBeforeUnmount, ref, watchEffect } from 'vue'
import { attempt, client, type Shapes, unwrap } from '../../api/client'
import TimeLane from '../../charts/TimeLane.vue'
import { fixed } from '../../state/format'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import { useExperiment } from '../walkforward/useExperiment'
import AheadLane from './AheadLane.vue'
import OutlookFacts from './OutlookFacts.vue'
import OutlookTables from './OutlookTables.vue'
import { useOutlook } from './useOutlook'
import { useScenarios } from './useScenarios'

const store = useProject()
const view = useView()
const id = computed(() => store.choices.outlook_id)
const { experiment } = useExperiment(computed(() => store.choices.experiment_id))
const shown = useOutlook(id, experiment)
const { points, told, outlook, made, drawn, lane, bands, bundled, level, chances, picked, words } = shown
const scenarios = useScenarios(made)
const facts = ref<InstanceType<typeof OutlookFacts>>()
const knownUntil = computed(() =>
  outlook.value?.origin && store.axis ? store.axis.time(outlook.value.origin - 1) : null,
)
/** The outlook with the scenarios that are looked at beside it. */
const lanes = computed(() => [
  ...lane.value,
  ...scenarios.beside.value.map((each) => ({
    label: each.name,
    points: { times: each.outlook.times, values: each.outlook.mean },
    color: each.color,
    dash: each.dash,
    width: 2,
  })),
])

async function make(body: Shapes['NewOutlook']) {
  if (!experiment.value) return
  const params = { path: { experiment_id: experiment.value.id } }
  const made = await attempt(() =>
    unwrap(client.POST('/api/v1/experiments/{experiment_id}/outlooks', { params, body })),
  )
  if (made) await store.reload()
}
const look = (outlook_id: number) => void store.choose({ outlook_id })
/** The same, as far ahead, learned on the newest version of its data. */
async function refit() {
  if (!made.value) return
  const params = { path: { outlook_id: made.value.of ?? made.value.id } }
  const again = await attempt(() =>
    unwrap(client.POST('/api/v1/outlooks/{outlook_id}/refit', { params, body: {} })),
  )
  if (again) await store.reload()
}
async function redraw() {
  if (!made.value) return
  const params = { path: { outlook_id: made.value.id } }
  const body = { seed: (made.value.seed ?? 0) + 1 }
  await attempt(() => unwrap(client.POST('/api/v1/outlooks/{outlook_id}/redraw', { params, body })))
}
async function stop() {
  if (outlook.value?.state !== 'queued') return
  const params = { path: { outlook_id: outlook.value.id } }
  await attempt(() => unwrap(client.POST('/api/v1/outlooks/{outlook_id}/stop', { params })))
}
/** What is asked for is in view before it is asked for. */
async function run() {
  facts.value?.open()
  await nextTick()
  facts.value?.ask()
}
function nextScenario() {
  const ids = scenarios.listed.value.map((each) => each.id)
  const next = ids[ids.indexOf(scenarios.shown.value[0] ?? -1) + 1]
  scenarios.shown.value = next === undefined ? [] : [next]
}
const copy = () => words.value && void navigator.clipboard.writeText(words.value.sentence)
watchEffect(() => {
  roomActions.run = () => void run()
  roomActions.stop = outlook.value?.state === 'queued' ? () => void stop() : null
  roomActions.keys = {
    y: () => void copy(),
    n: () => (picked.value = Math.min(picked.value + 1, (made.value?.times.length ?? 1) - 1)),
    b: () => (picked.value = Math.max(picked.value - 1, 0)),
    p: () => (bundled.value = !bundled.value),
    d: () => void redraw(),
    s: nextScenario,
    f: () => void refit(),
  }
})
onBeforeUnmount(() => {
  roomActions.run = roomActions.stop = null
  roomActions.keys = {}
})
</script>

<template>
  <RoomFrame strip needs-data>
    <template v-if="id">
      <TimeLane
        name="outlook"
        :title="`outlook by ${outlook?.contender ?? ''}${outlook?.scenario ? `, ${outlook.scenario}` : ''}`"
        :unit="view.unit"
        :series="lanes"
        :bands="bands"
        :threshold="level"
        :known-until="knownUntil"
        :note="outlook?.reason ?? undefined"
        :answer="points"
        class="main"
        @threshold="shown.drag"
        @pick="shown.pick"
      />
      <TimeLane
        v-if="made && drawn"
        name="chance"
        :title="`chance of more than ${fixed(level, shown.decimals.value)}`"
        :series="chances"
        :known-until="knownUntil"
        from-zero
        :show-time="!scenarios.column.value"
        class="chance"
      />
      <AheadLane v-if="made && scenarios.column.value" :scenarios="scenarios" class="ahead" />
      <OutlookTables v-if="made" :shown="shown" :scenarios="scenarios" class="list" />
      <p v-else-if="outlook?.state === 'failed' || outlook?.state === 'stopped'" class="worse">
        {{ outlook.reason }}
      </p>
      <p v-else-if="told.loading.value" class="second">Reading the outlook …</p>
      <p v-else-if="told.failure.value" class="worse" role="alert">
        {{ told.failure.value }} <button class="button" @click="told.again()">Try again</button>
      </p>
      <p v-else class="second">
        The refit on everything known is queued or running{{
          outlook?.share ? `, ${fixed(100 * outlook.share, 0)} % of its rehearsals done` : ''
        }}. Esc stops it.
      </p>
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
      <OutlookFacts
        ref="facts"
        :shown="shown"
        :scenarios="scenarios"
        :asking="Boolean(experiment)"
        @ask="make"
        @copy="copy"
        @look="look"
        @redraw="redraw"
        @refit="refit"
      />
    </template>
  </RoomFrame>
</template>

<style scoped>
.main {
  flex: 3;
}
.chance {
  flex: 1;
}
.ahead {
  flex: 1.6;
}
.list {
  flex: 2;
}
.nothing {
  margin: auto;
  text-align: center;
}
</style>
