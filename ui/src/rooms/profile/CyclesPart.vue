<script setup lang="ts">
import Slider from 'primevue/slider'
import NumberField from '../../widgets/NumberField.vue'
import { computed, ref, watch } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import type { PlotSeries } from '../../charts/plot'
import PlotChart from '../../charts/PlotChart.vue'
import { counted } from '../../state/format'
import { useView } from '../../state/view'
import { useProfilePart, useShownUnit } from './useProfile'

/** Every day, week or year as a line of its own; a slider runs through them. */
const view = useView()
const unit = useShownUnit()
const period = ref<number | null>(null)
const { data: cycles, busy } = useProfilePart<Shapes['CyclesView'], { period: number | null }>(
  'cycles',
  ({ params, body, signal, extra }) =>
    unwrap(
      client.POST('/api/v1/datasets/{dataset_id}/series/{series}/profile/cycles', {
        params,
        body: { ...body, ...extra },
        signal,
      }),
    ),
  () => ({ period: period.value }),
)
const chosen = ref(0)
const hidden = ref<string[]>([])
watch(cycles, (now, before) => {
  if (!now) return
  if (!before || now.period !== before.period) hidden.value = []
  if (!before || now.period !== before.period || now.lines.length !== before.lines.length)
    chosen.value = now.lines.length - 1
})
watch(
  () => view.series,
  () => (chosen.value = Math.min(chosen.value, (cycles.value?.lines.length ?? 1) - 1)),
)
const few = computed(() => (cycles.value?.lines.length ?? 0) <= 40)
const current = computed(() => cycles.value?.lines[chosen.value]?.label ?? '')
/** The chosen cycle in ink above the others, which are the paler the more they are. */
const drawn = computed<PlotSeries[]>(() => {
  const all = (cycles.value?.lines ?? []).filter((each) => !hidden.value.includes(each.label))
  const alpha = Math.min(Math.max(14 / Math.max(all.length, 1), 0.06), 0.6)
  const line = (each: (typeof all)[number], inInk: boolean): PlotSeries => ({
    label: each.label,
    kind: 'line',
    x: each.values.map((_, i) => i),
    y: each.values,
    color: inInk ? 'var(--ink)' : 'var(--c3)',
    width: inInk ? 1.75 : 1,
    alpha: inInk ? 1 : alpha,
  })
  const inInk = all.filter((each) => each.label === current.value)
  return [
    ...inInk.map((each) => line(each, true)),
    ...all.filter((each) => each.label !== current.value).map((each) => line(each, false)),
  ]
})
function toggle(label: string) {
  hidden.value = hidden.value.includes(label)
    ? hidden.value.filter((each) => each !== label)
    : [...hidden.value, label]
}
const title = computed(() => {
  const now = cycles.value
  if (!now) return ''
  const cut = now.cut ? `, ${now.cut} earlier ones left out` : ''
  return `${counted(now.lines.length, 'cycle')} of a ${now.name}, ${unit.value || 'values'}${cut}`
})
</script>

<template>
  <div v-if="cycles" class="bar">
    <span class="second">One line per</span>
    <button
      v-for="(steps, name) in cycles.choices"
      :key="name"
      class="button"
      :class="{ primary: steps === cycles.period }"
      @click="period = steps"
    >
      {{ name }}
    </button>
    <label class="second"
      >or
      <NumberField :min="2" :model-value="cycles.period" @update:model-value="period = $event" />
      steps</label
    >
    <span class="grow"></span>
    <span>{{ current }}</span>
    <Slider
      v-model="chosen"
      class="slider"
      :min="0"
      :max="cycles.lines.length - 1"
      aria-label="Cycle in ink"
    />
  </div>
  <div class="panel cell" :aria-busy="busy">
    <PlotChart
      v-if="cycles"
      :title="title"
      :names="cycles.phases"
      :series="drawn"
      @pick="(_, label) => (chosen = cycles?.lines.findIndex((each) => each.label === label) ?? chosen)"
    />
  </div>
  <div v-if="cycles && few" class="years" role="group" aria-label="Cycles shown">
    <button
      v-for="(each, i) in cycles.lines"
      :key="each.label"
      :aria-pressed="!hidden.includes(each.label)"
      :class="{ off: hidden.includes(each.label), here: i === chosen }"
      class="number"
      @click="toggle(each.label)"
    >
      {{ each.label }}
    </button>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  gap: 8px;
  align-items: center;
}
.bar :deep(.number) {
  width: 76px;
  text-align: right;
}
.bar label {
  display: flex;
  gap: 6px;
  align-items: center;
}
.grow {
  flex: 1;
}
.slider {
  width: 260px;
}
.cell {
  flex: 1;
  padding: 8px 10px;
  display: flex;
}
.cell > * {
  flex: 1;
}
.years {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.years button {
  border: 1px solid var(--hairline);
  border-radius: 3px;
  background: var(--panel);
  font-size: 12px;
  padding: 1px 6px;
  cursor: pointer;
}
.years .off {
  color: var(--ink-2);
  text-decoration: line-through;
}
.years .here {
  border-color: var(--ink);
}
</style>
