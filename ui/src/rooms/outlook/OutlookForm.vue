<script setup lang="ts">
import { computed, reactive, watch } from 'vue'
import type { Shapes } from '../../api/client'
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
function ask() {
  if (body.contender) emit('ask', { ...body, until: asOf.now ? null : view.cutoff })
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
    <div class="pair">
      <label v-tip="'What the quantity can be: mean, ranges and paths keep to it.'"
        >Never below <NumberField v-model="body.floor" label="Never below"
      /></label>
      <label>Never above <NumberField v-model="body.ceiling" label="Never above" /></label>
    </div>
    <label class="tick"><input v-model="body.whole" type="checkbox" /> whole numbers only</label>
    <label class="tick"
      ><input v-model="body.joint" type="checkbox" /> errors of several series go together</label
    >
    <label v-if="planned.length" v-tip="`Beyond the data: ${planned.join(', ')}`"
      >What lies ahead <ChoiceField v-model="body.ahead" label="What lies ahead" :options="WAYS"
    /></label>
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
.tick {
  display: flex;
  gap: 6px;
  align-items: center;
}
</style>
