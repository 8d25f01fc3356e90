<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import ChoiceField from '../../widgets/ChoiceField.vue'
import NumberField from '../../widgets/NumberField.vue'
import { asUsual } from './asked'

/** What is asked for: by whom, how far, as of when, within what the quantity can be. */
const props = defineProps<{ names: string[]; contender: string }>()
const emit = defineEmits<{ ask: [body: Shapes['NewOutlook']] }>()
const store = useProject()
const view = useView()
const WAYS = ['given', 'hold last', 'same as last year'] as const
const body = reactive(asUsual(''))
const asOf = reactive({ now: true })
watch(
  () => [props.contender, props.names] as const,
  ([mine, names]) => (body.contender = mine || body.contender || (names[names.length - 1] ?? '')),
  { immediate: true },
)
const planned = computed(() =>
  (store.dataset?.columns ?? [])
    .filter((each) => each.role === 'known_ahead')
    .map((each) => String(each.name)),
)
const upTo = ref('')
/** Levels as they are typed, in percent; empty: those that were judged. */
const levels = ref('')
const chosen = computed(() => {
  const found = levels.value
    .split(/[\s,;%]+/)
    .filter(Boolean)
    .map((each) => Number(each) / 100)
  return found.length ? found : null
})
const wrong = computed(() => chosen.value?.some((each) => !(each > 0 && each < 1)) ?? false)
const RANGES = [
  { value: 'errors', label: 'errors out of sample' },
  { value: 'adaptive', label: 'errors, as they held lately' },
  { value: 'theory', label: 'what it states itself' },
] as const
const asked = computed<Shapes['NewOutlook']>(() => ({
  ...body,
  levels: chosen.value,
  to: upTo.value.trim() || null,
  until: asOf.now ? null : view.cutoff,
}))
/** What it would lack of columns that are known ahead, before it is asked for. */
const { data: lacks } = useAnswer(
  'outlook lacks',
  () =>
    planned.value.length && body.contender && store.choices.experiment_id && !wrong.value
      ? { params: { path: { experiment_id: store.choices.experiment_id } }, body: asked.value }
      : null,
  (question, signal): Promise<Shapes['LacksView']> =>
    unwrap(client.POST('/api/v1/experiments/{experiment_id}/outlooks/lacks', { ...question, signal })),
  { aside: true, settle: 200 },
)
function ask() {
  if (body.contender && !wrong.value) emit('ask', asked.value)
}
defineExpose({ ask })
</script>

<template>
  <form class="asked" @submit.prevent="ask">
    <label>Contender <ChoiceField v-model="body.contender" label="Contender" :options="names" /></label>
    <div class="pair">
      <label v-tip="'Beyond the steps that were judged, ranges come from rehearsals.'"
        >Steps <NumberField v-model="body.horizon" label="Steps" :min="1" whole placeholder="as judged"
      /></label>
      <label
        >Known up to
        <ChoiceField
          label="Known up to"
          :model-value="asOf.now ? 'the end' : 'the cutoff'"
          :options="['the end', 'the cutoff']"
          @update:model-value="asOf.now = $event === 'the end'"
      /></label>
    </div>
    <label v-tip="'A day or a time, in the place of steps'"
      >Up to <input v-model="upTo" class="field number" aria-label="Up to" placeholder="as many steps"
    /></label>
    <div class="pair">
      <label v-tip="'What the quantity can be: mean, ranges and paths keep to it.'"
        >Never below <NumberField v-model="body.floor" label="Never below"
      /></label>
      <label>Never above <NumberField v-model="body.ceiling" label="Never above" /></label>
    </div>
    <div class="pair">
      <label v-tip="'Levels in percent, such as 80, 95; empty: those that were judged'"
        >Ranges, %
        <input v-model="levels" class="field number" aria-label="Ranges, %" placeholder="as judged"
      /></label>
      <label>Made of <ChoiceField v-model="body.ranges" label="Made of" :options="RANGES" /></label>
    </div>
    <p v-if="wrong" class="worse">Levels lie between 0 and 100.</p>
    <label class="tick"><input v-model="body.whole" type="checkbox" /> whole numbers only</label>
    <label class="tick"
      ><input v-model="body.joint" type="checkbox" /> errors of several series go together</label
    >
    <label v-if="planned.length" v-tip="`Beyond the data: ${planned.join(', ')}`"
      >What lies ahead <ChoiceField v-model="body.ahead" label="What lies ahead" :options="WAYS"
    /></label>
    <p v-for="each in lacks?.lacks ?? []" :key="each.column" class="worse">
      {{ each.column }} is known up to {{ each.last.slice(0, 16) }}: {{ each.steps }} of
      {{ each.needed }} steps. Hold it, take last year’s, or ask for fewer.
    </p>
    <button class="button primary">Refit and forecast (r)</button>
  </form>
</template>

<style scoped>
.asked,
.asked label:not(.tick) {
  display: grid;
  gap: 4px;
}
.asked {
  gap: 8px;
}
label {
  color: var(--ink-2);
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
p {
  margin: 0;
}
.tick {
  display: flex;
  gap: 6px;
  align-items: center;
}
</style>
