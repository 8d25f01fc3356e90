<script setup lang="ts">
import { useLocalStorage } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { Shapes } from '../../api/client'
import { count, counted, fixed } from '../../state/format'
import { useProject } from '../../state/project'
import FactList from '../../widgets/FactList.vue'
import FoldedPart from '../../widgets/FoldedPart.vue'
import NumberField from '../../widgets/NumberField.vue'
import HandOver from './HandOver.vue'
import HeldPart from './HeldPart.vue'
import OutlookForm from './OutlookForm.vue'
import PartsPart from './PartsPart.vue'
import ScenarioPart from './ScenarioPart.vue'
import type { Shown } from './useOutlook'
import type { Scenarios } from './useScenarios'

/** The outlook in words, what a step is made of, how it fared, its scenarios, how it is handed over, and asked for. */
const props = defineProps<{ shown: Shown; scenarios: Scenarios; asking: boolean }>()
const emit = defineEmits<{
  ask: [body: Shapes['NewOutlook']]
  copy: []
  look: [id: number]
  redraw: []
  refit: []
}>()
const store = useProject()
const { outlook, made, drawn, names, bundled, level, running, chance, picked, decimals, words } = props.shown
const form = ref<InstanceType<typeof OutlookForm>>()
const parts = useLocalStorage('outlook parts', { asking: true, held: true, scenarios: true, over: false })
const knownUpTo = computed(() =>
  made.value?.origin && store.axis ? store.axis.input(store.axis.time(made.value.origin - 1)) : '',
)
const ever = computed(() => chance.value?.ever[chance.value.ever.length - 1] ?? null)
const inARow = computed(() =>
  running.value > 1 ? (chance.value?.run[chance.value.run.length - 1] ?? null) : null,
)
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
defineExpose({ open: () => (parts.value.asking = true), ask: () => form.value?.ask() })
</script>

<template>
  <h1>{{ outlook?.contender ?? 'Outlook' }}</h1>
  <template v-if="made">
    <p v-if="made.of" class="second sentence">
      Scenario “{{ made.scenario }}”
      <button class="link" @click="emit('look', made.of)">of {{ made.of }}</button>
    </p>
    <p class="sentence" aria-live="polite">{{ words?.sentence }}</p>
    <PartsPart v-if="drawn" :outlook="made" :picked="picked" :decimals="decimals" />
    <label v-if="drawn" class="level"
      >More than
      <NumberField
        label="Chance of more than"
        :model-value="level"
        @update:model-value="$event !== null && shown.drag($event)"
      />
      <span class="second number">ever: {{ ever === null ? '' : `${fixed(ever * 100, 0)} %` }}</span>
    </label>
    <label v-if="drawn" class="level"
      >steps running
      <NumberField
        label="Steps running"
        :model-value="running"
        :min="1"
        :max="made.times.length"
        whole
        @update:model-value="running = $event ?? 1"
      />
      <span class="second number">{{ inARow === null ? '' : `${fixed(inARow * 100, 0)} %` }}</span>
    </label>
    <p class="second sentence">{{ words?.paragraph }}</p>
    <p v-if="made.newer" class="worse sentence">A newer version of its data is there: f refits on it.</p>
    <p v-if="!drawn" class="worse sentence">
      It was made before paths were kept: refit it for chances, totals and words.
    </p>
    <div class="buttons">
      <button class="button" @click="emit('copy')">Copy the sentence (y)</button>
      <button class="button" :aria-pressed="bundled" @click="bundled = !bundled">Paths (p)</button>
      <button
        class="button"
        v-tip="`Drawn by seed ${made.seed ?? ''}`"
        :disabled="made.seed == null"
        @click="emit('redraw')"
      >
        Draw anew (d)
      </button>
    </div>
    <template v-if="made.seed != null">
      <FoldedPart title="Held to it" :open="parts.held" @toggle="parts.held = $event">
        <HeldPart :outlook="made" @look="emit('look', $event)" @refit="emit('refit')" />
      </FoldedPart>
      <FoldedPart
        v-if="scenarios.columns.value.length || scenarios.occasions.value.length"
        title="Scenarios"
        :count="scenarios.listed.value.length || undefined"
        :open="parts.scenarios"
        @toggle="parts.scenarios = $event"
      >
        <ScenarioPart :scenarios="scenarios" />
      </FoldedPart>
      <FoldedPart title="Hand over" :open="parts.over" @toggle="parts.over = $event">
        <HandOver :outlook="made" />
      </FoldedPart>
    </template>
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
    <p v-for="note in made.notes" :key="note" class="second sentence">{{ note }}</p>
  </template>
  <span class="grow"></span>
  <FoldedPart
    v-if="asking"
    title="Ask for"
    :open="parts.asking || !store.choices.outlook_id"
    @toggle="parts.asking = $event"
  >
    <OutlookForm
      ref="form"
      :names="names.map((each) => each.name)"
      :contender="outlook?.contender ?? ''"
      @ask="emit('ask', $event)"
    />
  </FoldedPart>
</template>

<style scoped>
.sentence {
  margin: 0;
}
.level {
  display: grid;
  grid-template-columns: 1fr 66px 84px;
  white-space: nowrap;
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
</style>
