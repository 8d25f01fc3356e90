<script setup lang="ts">
import { computed, ref } from 'vue'
import TimeLane from '../../charts/TimeLane.vue'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import ChoiceField from '../../widgets/ChoiceField.vue'
import NumberField from '../../widgets/NumberField.vue'
import { drawnEdit, withEdit, type Edit } from './edits'
import type { Scenarios } from './useScenarios'

/** A column that is known ahead, to be drawn as one expects it: by hand, shifted, scaled, held. */
const props = defineProps<{ scenarios: Scenarios }>()
const store = useProject()
const view = useView()
const { columns, column, name, lane, times, origin, edits, changed, clear } = props.scenarios
const HOW = ['shift', 'scale', 'hold', 'set'] as const
const how = ref<(typeof HOW)[number]>('shift')
const value = ref<number | null>(null)
const everywhere = ref(true)
const several = computed(() => (store.dataset?.series.length ?? 1) > 1)
const mine = computed(() => ({
  column: column.value?.name ?? '',
  key: everywhere.value || !several.value ? null : view.key,
}))
const knownUntil = computed(() => store.axis?.time(origin.value - 1) ?? null)

function draw(from: [number, number], to: [number, number]) {
  const next = drawnEdit(mine.value, times.value, origin.value, from, to)
  if (next) edits.value = withEdit(edits.value, next, origin.value, times.value.length)
}
/** The steps that are selected, or all that are ahead. */
const span = computed<[number, number]>(() => {
  const last = origin.value + times.value.length - 1
  if (!view.selection || !store.axis) return [origin.value, last]
  const [from, to] = view.selection.map((time) => store.axis?.position(time) ?? 0) as [number, number]
  return [Math.min(Math.max(from, origin.value), last), Math.min(Math.max(to, origin.value), last)]
})
const ready = computed(() => how.value === 'hold' || value.value !== null)
function apply() {
  if (!ready.value || !column.value) return
  const values = how.value === 'hold' ? [] : [value.value]
  const [since, until] = span.value
  edits.value = [...edits.value, { ...mine.value, how: how.value, since, until, values } satisfies Edit]
}
</script>

<template>
  <section class="ahead">
    <TimeLane
      name="ahead"
      :title="`${column?.name ?? ''}, known ahead: draw what you expect`"
      :note="column?.read ? '' : 'The forecast does not depend on it.'"
      :series="lane"
      :known-until="knownUntil"
      drawable
      show-time
      class="drawn"
      @draw="draw"
    />
    <form class="tools panel" aria-label="Change what is known ahead" @submit.prevent="apply">
      <ChoiceField
        v-if="columns.length > 1"
        class="short"
        label="Column"
        :model-value="column?.name ?? ''"
        :options="columns.map((each) => each.name)"
        @update:model-value="name = $event"
      />
      <ChoiceField v-model="how" class="short" label="Change by" :options="HOW" />
      <NumberField v-if="how !== 'hold'" v-model="value" label="By or to" class="short" />
      <button class="button" :disabled="!ready">
        {{ view.selection ? 'The selected steps' : 'All steps ahead' }}
      </button>
      <label v-if="several"><input v-model="everywhere" type="checkbox" /> of every series</label>
      <span class="grow"></span>
      <button v-if="edits.length" type="button" class="button" @click="edits = edits.slice(0, -1)">
        Take back the last
      </button>
      <button v-if="changed" type="button" class="button" @click="clear">As given</button>
    </form>
  </section>
</template>

<style scoped>
.ahead {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.drawn {
  flex: 1;
}
.tools {
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 3px 8px;
  border-top: 0;
}
.short {
  width: 92px;
}
.grow {
  flex: 1;
}
label {
  color: var(--ink-2);
}
</style>
