<script setup lang="ts">
import { computed } from 'vue'
import type { Shapes } from '../../../api/client'
import { number } from '../../../state/format'
import { useProject } from '../../../state/project'
import { useView } from '../../../state/view'

/** Says, before it runs, that a level moves and nothing in an entry's chain takes that out; offers the stage that would. */
type Entry = Shapes['NewExperiment']['contenders'][number]
const props = defineProps<{ entry: Entry; moved: number | null }>()
const emit = defineEmits<{ change: [change: Partial<Entry>] }>()
const store = useProject()
const view = useView()
const schema = computed(
  () => (store.catalogue?.forecasters[props.entry.forecaster.kind ?? ''] ?? {}) as Record<string, unknown>,
)
const follows = computed(
  () => schema.value.group !== 'windows' || (schema.value.can as string[]).includes('trend'),
)
const taken = computed(() =>
  (props.entry.chain ?? []).some((stage) =>
    ['trend', 'difference'].includes(
      String((store.catalogue?.stages[stage.kind ?? ''] as Record<string, unknown>)?.group),
    ),
  ),
)
const byWindow = computed(() => (props.entry.forecaster as { level?: string }).level === 'window')
function takeOut() {
  emit('change', { chain: [...(props.entry.chain ?? []), { kind: 'linear_trend' }] as Entry['chain'] })
}
</script>

<template>
  <p v-if="moved !== null && !follows && !taken && !byWindow" class="trend" role="note">
    The level of {{ view.key }} {{ moved > 0 ? 'rises' : 'falls' }} by {{ number(Math.abs(moved)) }} over what
    is known, and nothing in the chain takes that out: a {{ schema.title }} says little beyond what it has
    seen.
    <button class="button" @click="takeOut">Take out a line</button>
  </p>
</template>

<style scoped>
.trend {
  margin: 0;
  border-left: 3px solid var(--worse);
  padding-left: 8px;
}
button {
  margin-left: 4px;
}
</style>
