<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import ChoiceField from '../../widgets/ChoiceField.vue'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { useExperiment } from '../walkforward/useExperiment'
import { DETECTORS } from './flags'
import type { Scanning } from './useScan'

/** Which question is asked: looking back, or as of every moment; and of which detector. */
const props = defineProps<{ scanning: Scanning }>()
const store = useProject()
const view = useView()
const { scan, active } = props.scanning
const using = ref('joint')
const contender = ref<string | null>(null)
watch(
  scan,
  (now) => {
    if (!now) return
    using.value = now.using
    contender.value = now.contender ?? contender.value
  },
  { immediate: true },
)
const { experiment } = useExperiment(computed(() => store.choices.experiment_id))
const contenders = computed(() => experiment.value?.contenders ?? [])
const detectors = computed(() => [
  ...Object.entries(DETECTORS).map(([value, label]) => ({ value, label })),
  ...(contenders.value.length ? [{ value: 'contender', label: 'errors of a contender' }] : []),
])
function ask(mode: 'as_of' | 'looking_back') {
  const byContender = using.value === 'contender'
  if (byContender && !contender.value) contender.value = contenders.value[0]?.name ?? null
  void props.scanning.start({
    mode: byContender ? 'as_of' : mode,
    using: using.value,
    until: mode === 'looking_back' && !byContender ? view.cutoff : null,
    contender: byContender ? contender.value : null,
    experiment_id: byContender ? (store.choices.experiment_id ?? null) : null,
  })
}
/** A scan that answers the question already is shown; otherwise the data is looked through. */
function change(mode: 'as_of' | 'looking_back') {
  const there = store.project?.scans.find(
    (each) =>
      each.mode === mode &&
      each.using === using.value &&
      each.dataset_id === store.choices.dataset_id &&
      each.state === 'done' &&
      (mode === 'as_of' ? each.until === null : each.until === view.cutoff) &&
      (using.value !== 'contender' || each.contender === contender.value),
  )
  if (there) void store.choose({ scan_id: there.id })
  else ask(mode)
}
</script>

<template>
  <div class="modes" role="group" aria-label="Question">
    <button
      v-for="[mode, words] in [
        ['looking_back', 'looking back'],
        ['as_of', 'as-of'],
      ] as const"
      :key="mode"
      class="button"
      :aria-pressed="scan?.mode === mode"
      :disabled="active || (mode === 'looking_back' && using === 'contender')"
      @click="change(mode)"
    >
      {{ words }}
    </button>
  </div>
  <label
    >Detector
    <ChoiceField
      v-model="using"
      label="Detector"
      :options="detectors"
      :disabled="active"
      @update:model-value="change(using === 'contender' ? 'as_of' : (scan?.mode ?? 'as_of'))"
  /></label>
  <label v-if="using === 'contender'"
    >Contender
    <ChoiceField
      v-model="contender"
      label="Contender"
      :options="contenders.map((each) => each.name)"
      @update:model-value="change('as_of')"
  /></label>
  <div v-if="active" role="status" class="buttons">
    <span class="number">{{ scan?.done }} of {{ scan?.series }} series</span>
    <button class="button primary" @click="scanning.stop()">Stop (Esc)</button>
  </div>
  <template v-else-if="scan?.state === 'failed' || scan?.state === 'stopped'">
    <p class="worse">{{ scan.reason ?? `Stopped after ${scan.done} of ${scan.series} series.` }}</p>
    <button class="button" @click="scan.using === 'contender' ? ask('as_of') : scanning.resume()">
      Go on (r)
    </button>
  </template>
</template>

<style scoped>
.modes {
  display: grid;
  grid-template-columns: 1fr 1fr;
}
.modes [aria-pressed='true'] {
  background: var(--ink);
  color: var(--panel);
}
label {
  display: grid;
  gap: 4px;
  color: var(--ink-2);
}
p {
  margin: 0;
}
.buttons {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
</style>
