<script setup lang="ts">
import ChoiceField from '../../widgets/ChoiceField.vue'
import { computed, onBeforeUnmount, ref, watch, watchEffect } from 'vue'
import { attempt, client, unwrap } from '../../api/client'
import TimeLane from '../../charts/TimeLane.vue'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { counted } from '../../state/format'
import { useView } from '../../state/view'
import FactList from '../../widgets/FactList.vue'
import DataGrid from '../../widgets/DataGrid.vue'
import RoomFrame from '../../widgets/RoomFrame.vue'
import { useExperiment } from '../walkforward/useExperiment'
import { asUsual } from './asked'
import { useOutlook } from './useOutlook'

const store = useProject()
const view = useView()
const id = computed(() => store.choices.outlook_id)
const { experiment } = useExperiment(computed(() => store.choices.experiment_id))
const { points, told, outlook, names, lane, bands, picked, steps, columns, sentence } = useOutlook(
  id,
  experiment,
)
const knownUpTo = computed(() =>
  outlook.value?.origin && store.axis ? store.axis.input(store.axis.time(outlook.value.origin - 1)) : '',
)
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
watch(names, (now) => (contender.value ||= now[now.length - 1]?.name ?? ''))
async function make() {
  if (!experiment.value || !contender.value) return
  const params = { path: { experiment_id: experiment.value.id } }
  if (
    await attempt(() =>
      unwrap(
        client.POST('/api/v1/experiments/{experiment_id}/outlooks', {
          params,
          body: { ...asUsual(contender.value), ahead: ahead.value },
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
      <FactList
        v-if="outlook?.times?.length"
        :facts="[
          { name: 'steps ahead', value: outlook.times.length },
          { name: 'known up to', value: knownUpTo },
          {
            name: 'ranges from',
            value: `${counted(outlook.errors, 'origin')}${outlook.widened ? ', widened' : ''}`,
          },
        ]"
      />
      <p class="second sentence">
        Ranges are this contender's own walk-forward errors at each step ahead, carried through its chain{{
          outlook?.widened ? '; so few are widened until they cover as often as they say' : ''
        }}.
      </p>
      <span class="grow"></span>
      <template v-if="experiment">
        <label>Contender <ChoiceField v-model="contender" :options="names.map((each) => each.name)" /></label>
        <label v-if="planned.length" v-tip="`Beyond the data: ${planned.join(', ')}`"
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
