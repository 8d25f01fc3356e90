<script setup lang="ts">
import InputText from 'primevue/inputtext'
import Popover from 'primevue/popover'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useProject } from '../state/project'
import { useView } from '../state/view'

/** The cutoff, typed or taken from a calendar; both in the zone of the data. */
const DatePicker = defineAsyncComponent(() => import('primevue/datepicker'))
const store = useProject()
const view = useView()
const panel = ref<InstanceType<typeof Popover>>()
const field = ref<{ $el: HTMLInputElement }>()
const text = ref('')
const last = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const shown = computed(() => store.axis?.text(last.value) ?? '')
/** Calendars know only the browser's own clock: what the data's clock shows is given to them as if it were that. */
const asDate = (time: number) =>
  new Date((store.axis?.input(time) ?? '').replace(' ', 'T').padEnd(16, 'T00:00'))
const two = (value: number) => String(value).padStart(2, '0')
const typed = (date: Date) =>
  `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())} ${two(date.getHours())}:${two(date.getMinutes())}`
const bounds = computed(() => view.extent.map(asDate))
const seconds = computed(() => store.axis?.grid.seconds ?? 0)
const unit = computed(() => (/month|quarter/.test(store.axis?.grid.step ?? '') ? 'month' : 'date'))

function begin() {
  text.value = store.axis?.input(last.value) ?? ''
  field.value?.$el.select()
}
function take(from: string) {
  const time = store.axis?.parse(from)
  if (time === null || time === undefined || !store.axis) return false
  view.setCutoff(store.axis.known(time), true)
  return true
}
function pick(date: unknown) {
  if (!(date instanceof Date) || !take(typed(date))) return
  text.value = store.axis?.input(last.value) ?? ''
}
const wrong = computed(() => Boolean(text.value) && store.axis?.parse(text.value) === null)
</script>

<template>
  <button
    v-tip="'Type a cutoff or pick a day; [ and ] step by fold'"
    class="number as-text"
    aria-haspopup="dialog"
    @click="panel?.toggle($event)"
  >
    {{ shown }}
  </button>
  <Popover ref="panel" aria-label="Known up to" @show="begin">
    <div class="panel-body">
      <InputText
        ref="field"
        v-model="text"
        class="field number"
        aria-label="Cutoff"
        placeholder="2024-03-12 06:00"
        :aria-invalid="wrong"
        @keydown.enter="take(text) && panel?.hide()"
      />
      <span v-if="wrong" class="worse">a day such as 2024-03-12</span>
      <DatePicker
        inline
        :model-value="asDate(last)"
        :view="unit"
        :show-time="seconds > 0 && seconds < 86400"
        :step-hour="Math.max(1, Math.floor(seconds / 3600))"
        :step-minute="seconds >= 3600 ? 60 : Math.max(1, Math.floor(seconds / 60))"
        :min-date="bounds[0]"
        :max-date="bounds[1]"
        :show-other-months="false"
        @update:model-value="pick"
      />
    </div>
  </Popover>
</template>

<style scoped>
.as-text {
  border: 0;
  background: none;
  padding: 2px 0;
  cursor: text;
}
.panel-body {
  display: grid;
  gap: 8px;
  padding: 8px;
}
</style>
