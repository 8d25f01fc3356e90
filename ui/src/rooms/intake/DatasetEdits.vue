<script setup lang="ts">
import FoldedPart from '../../widgets/FoldedPart.vue'
import Checkbox from 'primevue/checkbox'
import ChoiceField from '../../widgets/ChoiceField.vue'
import InputText from 'primevue/inputtext'
import NumberField from '../../widgets/NumberField.vue'
import { computed, ref } from 'vue'
import { attempt, client, download, unwrap, type Draft, type Shapes } from '../../api/client'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { FILL_METHODS } from './fillMethods'

/** Changes that make the next version: masks, filled gaps, another step, occasions; and taking the data away. */
type Edit = Draft<Shapes['EditBody']['edit']>
const emit = defineEmits<{ edit: [edit: Edit] }>()
const store = useProject()
const view = useView()
const reason = ref('')
const both = ref('both')
const onlyThis = ref(true)
const fill = ref({ method: 'leave', longest: null as number | null })
const step = ref('')
const way = ref<'mean' | 'sum'>('mean')
const country = ref('')
const calendarPicker = ref<HTMLInputElement>()

const span = computed(() => {
  const axis = store.axis
  if (!axis || !view.selection) return null
  return [
    axis.input(axis.time(axis.position(view.selection[0]) + 1)),
    axis.input(axis.time(axis.position(view.selection[1]))),
  ]
})
const start = ref('')
const end = ref('')
const from = computed(() => span.value?.[0] ?? start.value)
const to = computed(() => span.value?.[1] ?? end.value)

function mask() {
  emit('edit', {
    masks: [
      {
        start: from.value,
        end: to.value,
        reason: reason.value,
        learning: both.value !== 'scoring',
        scoring: both.value !== 'learning',
        series: onlyThis.value ? view.key : null,
      },
    ],
  })
  view.selection = null
  view.masking = false
  reason.value = ''
}
async function calendar(files: FileList | null) {
  const file = files?.[0]
  if (!file) return
  const spans = await attempt(async () => {
    const sent = await fetch(`/api/v1/uploads?name=${encodeURIComponent(file.name)}`, {
      method: 'POST',
      body: file,
    })
    const { upload_id, detail } = (await sent.json()) as { upload_id: string; detail?: string }
    if (!sent.ok) throw new Error(detail)
    const params = { path: { upload_id } }
    return unwrap(client.GET('/api/v1/uploads/{upload_id}/calendar', { params }))
  })
  if (spans) emit('edit', { occasions: spans.occasions })
}
const take = (format: string) =>
  attempt(() =>
    download(
      `/api/v1/datasets/${store.dataset?.id}/export?format=${format}`,
      `${store.dataset?.name}.${format}`,
    ),
  )
const takeAccount = () =>
  attempt(() =>
    download(`/api/v1/datasets/${store.dataset?.id}/account.json`, `${store.dataset?.name}-account.json`),
  )
const when = (position: number) => store.axis?.input(store.axis.time(position)) ?? ''
</script>

<template>
  <section class="entries">
    <FoldedPart
      title="Masks"
      :count="store.dataset?.masks.length"
      :open="view.masking || view.selection !== null || (store.dataset?.masks.length ?? 0) > 0"
    >
      <p v-for="(each, place) in store.dataset?.masks ?? []" :key="place" class="entry">
        <button
          class="link"
          @click="
            store.axis && view.setSpan(store.axis.time(each.start - 48), store.axis.time(each.stop + 48))
          "
        >
          {{ each.reason }}
        </button>
        <span class="second"
          >{{ each.key ?? 'all series' }}, {{ when(each.start) }} – {{ when(each.stop - 1) }}</span
        >
        <button
          class="link"
          :aria-label="`Take off ${each.reason}`"
          @click="emit('edit', { unmask: [place] })"
        >
          ×
        </button>
      </p>
      <p class="second">Alt-drag on the Strip or a lane and press m, or type the span.</p>
      <label
        >From<InputText
          class="field number"
          :model-value="from"
          :readonly="!!span"
          placeholder="2024-03-12 06:00"
          @input="start = ($event.target as HTMLInputElement).value"
      /></label>
      <label
        >To<InputText
          class="field number"
          :model-value="to"
          :readonly="!!span"
          @input="end = ($event.target as HTMLInputElement).value"
      /></label>
      <label
        >Reason<InputText
          v-model="reason"
          class="field"
          placeholder="why it is left out"
          @keydown.enter="reason && from && to && mask()"
      /></label>
      <label
        >Left out of<ChoiceField
          v-model="both"
          :options="[{ value: 'both', label: 'learning and scoring' }, 'learning', 'scoring']"
      /></label>
      <label class="check"><Checkbox binary v-model="onlyThis" /> this series only</label>
      <button class="button" :disabled="!reason || !from || !to" @click="mask">Mask</button>
    </FoldedPart>
    <FoldedPart title="Fill gaps">
      <label
        >Method<ChoiceField
          v-model="fill.method"
          :options="FILL_METHODS.map(([method, words]) => ({ value: method, label: words }))"
      /></label>
      <label>Longest<NumberField v-model="fill.longest" :min="1" placeholder="any" /></label>
      <div class="buttons">
        <button
          class="button"
          :disabled="fill.method === 'leave'"
          @click="
            emit('edit', { filling: { method: fill.method as 'linear', longest: fill.longest || null } })
          "
        >
          Fill
        </button>
        <button
          class="button"
          :disabled="!store.dataset?.series.some((each) => each.filled)"
          @click="emit('edit', { unfill: true })"
        >
          Take fills out
        </button>
      </div>
    </FoldedPart>
    <FoldedPart title="Another step">
      <label>Step<InputText v-model="step" class="field number" placeholder="such as 1 day" /></label>
      <label>By<ChoiceField v-model="way" :options="['mean', 'sum']" /></label>
      <button
        class="button"
        :disabled="!step"
        @click="
          emit('edit', { resampling: { step, aggregate: way, spread: way === 'sum' ? 'divide' : 'repeat' } })
        "
      >
        Change the step
      </button>
    </FoldedPart>
    <FoldedPart title="Occasions" :count="store.dataset?.occasions.length">
      <p v-for="(each, i) in (store.dataset?.occasions ?? []).slice(0, 12)" :key="i" class="entry">
        {{ each.name }} <span class="second">{{ when(each.start) }}</span>
      </p>
      <label
        >Country<InputText v-model="country" class="field number" maxlength="3" placeholder="such as PT"
      /></label>
      <div class="buttons">
        <button
          class="button"
          :disabled="country.length < 2"
          @click="emit('edit', { holidays: [{ country }] })"
        >
          Public holidays
        </button>
        <button class="button" @click="calendarPicker?.click()">From a file</button>
      </div>
      <input
        ref="calendarPicker"
        type="file"
        class="sr-only"
        aria-label="Calendar file"
        @change="calendar(($event.target as HTMLInputElement).files)"
      />
    </FoldedPart>
    <FoldedPart title="Take away">
      <div class="buttons">
        <button
          v-for="format in ['csv', 'parquet', 'arrow', 'jsonl', 'xlsx']"
          :key="format"
          class="button"
          @click="take(format)"
        >
          {{ format }}
        </button>
        <button class="button" @click="takeAccount">account</button>
      </div>
    </FoldedPart>
  </section>
</template>

<style scoped>
section {
  display: flex;
  flex-direction: column;
  gap: 6px;
}
p {
  margin: 0 0 4px;
  font-size: 12px;
}
.entry {
  display: flex;
  gap: 6px;
  align-items: baseline;
}
.entry .second {
  flex: 1;
}
.buttons {
  display: flex;
  gap: 6px;
  flex-wrap: wrap;
}
</style>
