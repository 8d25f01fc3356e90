<script setup lang="ts">
import { useLocalStorage } from '@vueuse/core'
import { computed, nextTick, onBeforeUnmount, ref, watchEffect } from 'vue'
import { attempt, client, type Shapes, unwrap } from '../../api/client'
import TimeLane from '../../charts/TimeLane.vue'
import { count, counted, fixed } from '../../state/format'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import ChoiceField from '../../widgets/ChoiceField.vue'
import FactList from '../../widgets/FactList.vue'
import FoldedPart from '../../widgets/FoldedPart.vue'
import NumberField from '../../widgets/NumberField.vue'
import RoomFrame from '../../widgets/RoomFrame.vue'
import { useExperiment } from '../walkforward/useExperiment'
import OutlookForm from './OutlookForm.vue'
import StepTable from './StepTable.vue'
import TotalTable from './TotalTable.vue'
import { useOutlook } from './useOutlook'

const store = useProject()
const view = useView()
const id = computed(() => store.choices.outlook_id)
const { experiment } = useExperiment(computed(() => store.choices.experiment_id))
const shown = useOutlook(id, experiment)
const {
  points,
  told,
  outlook,
  made,
  drawn,
  names,
  lane,
  bands,
  bundled,
  level,
  chance,
  chances,
  picked,
  words,
} = shown
const form = ref<InstanceType<typeof OutlookForm>>()
const asking = useLocalStorage('outlook form', true)
const knownUpTo = computed(() =>
  made.value?.origin && store.axis ? store.axis.input(store.axis.time(made.value.origin - 1)) : '',
)
const SPANS = ['each step', 'day', 'week', 'month', 'all steps'] as const
const HOW = ['sum', 'mean', 'max', 'min', 'last'] as const
const by = ref<(typeof SPANS)[number]>('each step')
const how = ref<(typeof HOW)[number]>('sum')
const together = ref(false)
const several = computed(() => (store.dataset?.series.length ?? 1) > 1)
const span = computed(() => (by.value === 'all steps' ? null : `1 ${by.value}`))
const ever = computed(() => chance.value?.ever[chance.value.ever.length - 1] ?? null)
/** How often ranges like these held, the widest last. */
const held = computed(() =>
  (made.value?.levels ?? []).map((each, i) => ({
    name: `${fixed(each * 100, 0)} % held`,
    value:
      made.value?.held[i] == null
        ? 'not known'
        : `${fixed(made.value.held[i] * 100, 1)} % of ${count(made.value.held_of)}`,
    hint: 'Ranges made of earlier errors of the same kind, against what came after them.',
  })),
)

async function make(body: Shapes['NewOutlook']) {
  if (!experiment.value) return
  const params = { path: { experiment_id: experiment.value.id } }
  const made = await attempt(() =>
    unwrap(client.POST('/api/v1/experiments/{experiment_id}/outlooks', { params, body })),
  )
  if (made) await store.reload()
}
/** What is asked for is in view before it is asked for. */
async function run() {
  asking.value = true
  await nextTick()
  form.value?.ask()
}
const copy = () => words.value && void navigator.clipboard.writeText(words.value.sentence)
watchEffect(() => {
  roomActions.run = () => void run()
  roomActions.stop = null
  roomActions.keys = {
    y: () => void copy(),
    n: () => (picked.value = Math.min(picked.value + 1, (made.value?.times.length ?? 1) - 1)),
    b: () => (picked.value = Math.max(picked.value - 1, 0)),
    p: () => (bundled.value = !bundled.value),
  }
})
onBeforeUnmount(() => {
  roomActions.run = null
  roomActions.keys = {}
})
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
        :threshold="level"
        :known-until="outlook?.origin && store.axis ? store.axis.time(outlook.origin - 1) : null"
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
        :known-until="made.origin && store.axis ? store.axis.time(made.origin - 1) : null"
        from-zero
        show-time
        class="chance"
      />
      <div v-if="made" class="list panel">
        <div class="bar" role="group" aria-label="What the table tells">
          <ChoiceField v-model="by" class="inline" label="Told by" :options="SPANS" :disabled="!drawn" />
          <template v-if="by !== 'each step'">
            <ChoiceField v-model="how" class="inline" label="Summed up as" :options="HOW" />
            <label v-if="several"><input v-model="together" type="checkbox" /> all series together</label>
          </template>
          <span class="second">{{
            by === 'each step' ? '' : 'Ranges of totals come from joint paths, not from adding ranges.'
          }}</span>
        </div>
        <StepTable
          v-if="by === 'each step'"
          :outlook="made"
          :chance="chance"
          :level="level"
          :decimals="shown.decimals.value"
          :picked="picked"
          @pick="picked = $event"
        />
        <TotalTable
          v-else
          :outlook="made"
          :by="span"
          :how="how"
          :together="together && several"
          :decimals="shown.decimals.value"
        />
      </div>
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
      <template v-if="made">
        <p class="sentence" aria-live="polite">{{ words?.sentence }}</p>
        <label v-if="drawn" class="level"
          >Chance of more than
          <NumberField
            label="Chance of more than"
            :model-value="level"
            @update:model-value="$event !== null && shown.drag($event)"
          />
          <span class="second number">ever: {{ ever === null ? '' : `${fixed(ever * 100, 0)} %` }}</span>
        </label>
        <p class="second sentence">{{ words?.paragraph }}</p>
        <FactList
          :facts="[
            { name: 'steps ahead', value: made.times.length },
            { name: 'known up to', value: knownUpTo },
            {
              name: 'ranges from',
              value: `${counted(made.errors, 'origin')}${made.widened ? ', widened' : ''}`,
              hint: `Errors of ${made.how}.`,
            },
            ...held,
          ]"
        />
        <p v-if="!drawn" class="worse sentence">
          It was made before paths were kept: refit it for chances, totals and words.
        </p>
        <p v-for="note in made.notes" :key="note" class="second sentence">{{ note }}</p>
        <div class="buttons">
          <button class="button" @click="copy">Copy the sentence (y)</button>
          <button class="button" :aria-pressed="bundled" @click="bundled = !bundled">Paths (p)</button>
          <a class="button link" :href="`/api/v1/outlooks/${id}/table.csv`" download>CSV</a>
        </div>
      </template>
      <span class="grow"></span>
      <FoldedPart v-if="experiment" title="Ask for" :open="asking" @toggle="asking = $event">
        <OutlookForm
          ref="form"
          :names="names.map((each) => each.name)"
          :contender="outlook?.contender ?? ''"
          @ask="make"
        />
      </FoldedPart>
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
.list {
  flex: 2;
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.bar {
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 4px 8px;
}
.inline {
  height: 22px;
}
.sentence {
  margin: 0;
}
.level {
  display: grid;
  grid-template-columns: 1fr 76px auto;
  gap: 8px;
  align-items: center;
  color: var(--ink-2);
}
.grow {
  flex: 1;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
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
