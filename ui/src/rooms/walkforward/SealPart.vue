<script setup lang="ts">
import Dialog from 'primevue/dialog'
import { computed, ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { signed } from '../../state/format'
import { useProject } from '../../state/project'
import FactList from '../../widgets/FactList.vue'

/** The seal on the last folds: unbroken or by whom it was broken, what came of it, and the deliberate act. */
const props = defineProps<{ experiment: Shapes['ExperimentView']; contender: string; metric?: string }>()
const store = useProject()
const live = computed(() => `experiment ${props.experiment.id}`)
const { data: seal } = useAnswer(
  'seal',
  () => ({
    params: { path: { experiment_id: props.experiment.id }, query: { metric: props.metric } },
  }),
  (asked, signal): Promise<Shapes['SealedView']> =>
    unwrap(client.GET('/api/v1/experiments/{experiment_id}/seal', { ...asked, signal })),
  { live: () => live.value, tick: () => store.tick(live.value), aside: true },
)
const asking = ref(false)
const here = computed(() => seal.value?.breakings.filter((each) => each.here) ?? [])
const broken = computed(() => here.value.some((each) => each.contender === props.contender))
const naive = computed(() => props.experiment.baseline === props.contender)
const ready = computed(() => props.experiment.state === 'done')
const facts = computed(() =>
  (seal.value?.rows ?? []).map((row) => ({
    name: row.contender,
    value: `${signed(row.skill)}  ${signed(row.optimism)}`,
    hint:
      row.skill_low === null
        ? 'skill on sealed folds'
        : `skill on sealed folds, 95 % interval ${signed(row.skill_low)} … ${signed(row.skill_high)}`,
  })),
)
async function breakIt() {
  asking.value = false
  const params = { path: { experiment_id: props.experiment.id } }
  await attempt(() =>
    unwrap(
      client.POST('/api/v1/experiments/{experiment_id}/seal', {
        params,
        body: { contender: props.contender },
      }),
    ),
  )
}
</script>

<template>
  <section v-if="seal" class="seal">
    <p class="sentence">{{ seal.sentence }}</p>
    <FactList v-if="facts.length" caption="Skill there, and how much higher it was before" :facts="facts" />
    <button v-if="!broken && !naive" class="button" :disabled="!ready" @click="asking = true">
      Break the seal for {{ contender }} …
    </button>
    <Dialog
      v-if="asking"
      visible
      modal
      dismissable-mask
      header="Break the seal?"
      style="width: 420px"
      @update:visible="asking = false"
    >
      <p class="sentence">
        {{ contender }} is judged on
        {{ seal.folds === 1 ? 'the last fold' : `the last ${seal.folds} folds` }}, which nobody has chosen by.
        That can be done honestly but once: it is counted on this data for good, and stands on the board, in
        files and in reports.
      </p>
      <div class="buttons">
        <button class="button primary" @click="breakIt">Break it</button>
        <button class="button" autofocus @click="asking = false">Leave it</button>
      </div>
    </Dialog>
  </section>
</template>

<style scoped>
.seal {
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.sentence {
  margin: 0;
}
.buttons {
  display: flex;
  gap: 8px;
  margin-top: 12px;
}
</style>
