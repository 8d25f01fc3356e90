<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import { computed } from 'vue'
import type { Shapes } from '../../../api/client'
import { useProject } from '../../../state/project'
import { useView } from '../../../state/view'
import ChoiceField from '../../../widgets/ChoiceField.vue'
import SettingsForm from '../../../widgets/SettingsForm.vue'
import BlendMembers from './BlendMembers.vue'
import TrendNote from './TrendNote.vue'

/** One contender of an experiment to be: its name, its settings, its chain, its window plan. */
type Entry = Shapes['NewExperiment']['contenders'][number]
const props = defineProps<{ entry: Entry; entries: Entry[]; unsuited: string; moved: number | null }>()
const emit = defineEmits<{ change: [change: Partial<Entry>]; rename: [name: string] }>()
const store = useProject()
const view = useView()
const schema = computed(
  () => (store.catalogue?.forecasters[props.entry.forecaster.kind ?? ''] ?? {}) as Record<string, unknown>,
)
const RANGES: { value: NonNullable<Entry['ranges']>; label: string }[] = [
  { value: 'own', label: 'as they are' },
  { value: 'split', label: 'corrected by earlier folds' },
  { value: 'adaptive', label: 'corrected, following how they held lately' },
]
const blended = computed(() => props.entry.forecaster.kind === 'blend')
/** A number, or none where nothing that is one was typed. */
function floorOf(text: string) {
  const value = Number(text)
  return text.trim() && Number.isFinite(value) ? value : null
}
const chained = computed(() => schema.value.group !== 'baseline' && !blended.value)
/** Whether it learns from windows, and so takes a plan. */
const windowed = computed(() => 'plan' in ((schema.value.properties ?? {}) as object))
</script>

<template>
  <section class="panel">
    <h1>{{ entry.name }}</h1>
    <label
      ><span class="second">Name</span
      ><InputText
        class="field"
        :model-value="entry.name"
        @change="emit('rename', ($event.target as HTMLInputElement).value)"
    /></label>
    <p v-if="unsuited" class="unsuited">
      Does not suit {{ view.key }} as it is known:
      {{ unsuited }}
    </p>
    <TrendNote :entry="entry" :moved="moved" @change="emit('change', $event)" />
    <BlendMembers v-if="blended" :entry="entry" :entries="entries" @change="emit('change', $event)" />
    <SettingsForm
      :key="entry.forecaster.kind"
      :schema="schema"
      :skip="['members']"
      :model-value="entry.forecaster as unknown as Record<string, unknown>"
      @update:model-value="emit('change', { forecaster: $event as unknown as Entry['forecaster'] })"
    />
    <template v-if="chained">
      <h2>Chain</h2>
      <p class="second">
        {{ (entry.chain ?? []).map((stage) => stage.kind?.replaceAll('_', ' ')).join(' → ') || 'none' }}
      </p>
      <div class="buttons">
        <button class="button" @click="emit('change', { chain: store.choices.chain ?? [] })">
          Use the chain of Flatten
        </button>
        <button class="button" @click="emit('change', { chain: [] })">None</button>
        <label
          v-if="entry.chain?.length"
          class="flag"
          v-tip="
            'Forecast the mean behind the chain (smearing over past errors), not what its middle becomes'
          "
        >
          <Checkbox
            binary
            :model-value="entry.bias_adjust"
            @update:model-value="emit('change', { bias_adjust: $event })"
          />
          adjust for bias
        </label>
      </div>
    </template>
    <label v-tip="'Widened or narrowed so that they would have held what they say on earlier folds'">
      <span class="second">Ranges</span>
      <ChoiceField
        :model-value="entry.ranges ?? 'own'"
        :options="RANGES"
        @update:model-value="emit('change', { ranges: $event })"
      />
    </label>
    <label
      v-tip="'No step beyond 1.5 × the largest move over as many; zero where a slot of a season always was'"
    >
      <span class="second">Safeguards</span>
      <span class="flag"
        ><Checkbox
          binary
          :model-value="entry.safeguards ?? true"
          @update:model-value="emit('change', { safeguards: $event })"
        />
        hold to what the series has done</span
      >
    </label>
    <label
      v-if="entry.safeguards ?? true"
      v-tip="'No forecast is below; empty: 0 where nothing known is below 0'"
    >
      <span class="second">Never below</span>
      <InputText
        class="field"
        inputmode="decimal"
        placeholder="from history"
        :model-value="entry.floor == null ? '' : String(entry.floor)"
        @change="emit('change', { floor: floorOf(($event.target as HTMLInputElement).value) })"
      />
    </label>
    <template v-if="windowed">
      <h2>Window plan</h2>
      <p class="second">
        {{
          'plan' in entry.forecaster && entry.forecaster.plan
            ? `${entry.forecaster.plan.lags?.length ?? 0} lags, as in Windows`
            : 'chosen from the step and length'
        }}
      </p>
      <div class="buttons">
        <button
          class="button"
          @click="
            emit('change', {
              forecaster: {
                ...entry.forecaster,
                plan: store.choices.plan ?? null,
              } as unknown as Entry['forecaster'],
            })
          "
        >
          Use the plan of Windows
        </button>
        <button
          class="button"
          @click="
            emit('change', {
              forecaster: { ...entry.forecaster, plan: null } as unknown as Entry['forecaster'],
            })
          "
        >
          Choose for me
        </button>
      </div>
    </template>
    <slot />
  </section>
</template>

<style scoped>
section {
  padding: 12px 16px;
  display: flex;
  flex-direction: column;
  gap: 8px;
  overflow: auto;
}
label {
  display: grid;
  grid-template-columns: 90px minmax(0, 1fr);
  align-items: center;
  gap: 8px;
}
p {
  margin: 0;
}
.unsuited {
  border-left: 3px solid var(--worse);
  padding-left: 8px;
}
.flag,
.buttons {
  display: flex;
  gap: 8px;
}
</style>
