<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { client, unwrap, type Shapes } from '../../../api/client'
import { useAnswer } from '../../../state/answers'
import { roomActions } from '../../../state/keys'
import { useProject } from '../../../state/project'
import { useView } from '../../../state/view'
import RoomFrame from '../../../widgets/RoomFrame.vue'
import SettingsForm from '../../../widgets/SettingsForm.vue'
import type { Schema } from '../../../widgets/settingsFields'
import ContenderShelf, { type Kind } from './ContenderShelf.vue'
import DraftPanel from './DraftPanel.vue'
import EntryForm from './EntryForm.vue'
import FoldPlan from './FoldPlan.vue'
import VaryPart from './VaryPart.vue'
import { useLayout, type Entry } from './useLayout'

/** An experiment laid out by hand: folds on the time axis, contenders from a shelf, and what it comes to. */
const props = defineProps<{ source: Shapes['ExperimentView'] | null }>()
const emit = defineEmits<{ close: [] }>()
const store = useProject()
const view = useView()
const layout = useLayout(props.source)
const { design, entries, prospect, laid, lineProblem, costs } = layout

/** What lies beside the draft: the shelf, an entry's settings or its ranges, or all settings of the folds. */
const side = ref<'shelf' | 'entry' | 'vary' | 'folds'>('shelf')
const selected = ref<number | null>(null)
const entry = computed(() => (selected.value === null ? null : (entries.value[selected.value] ?? null)))
const varied = ref<Entry | null>(null)
watch(entry, (now) => now === null && side.value === 'entry' && (side.value = 'shelf'))

const { data: suited } = useAnswer(
  'suited',
  () =>
    store.dataset && {
      params: { path: { dataset_id: store.dataset.id }, query: { series: view.series, until: view.cutoff } },
    },
  (asked, signal): Promise<Shapes['SuitedView']> =>
    unwrap(client.GET('/api/v1/datasets/{dataset_id}/suited', { ...asked, signal })),
)
const reasons = computed(() => suited.value?.reasons ?? {})
const schemaOf = (kind: string | undefined) => (store.catalogue?.forecasters[kind ?? ''] ?? {}) as Schema
const plain = (kind: string) =>
  ({ name: layout.titleOf(kind), forecaster: { kind }, chain: [] }) as unknown as Entry
const kinds = computed<Kind[]>(() =>
  Object.entries(store.catalogue?.forecasters ?? {})
    .filter(([kind]) => kind !== 'blend')
    .map(([kind, schema]) => ({
      kind,
      title: String(schema.title),
      group: String(schema.group),
      can: (schema.can ?? []) as string[],
      reason: reasons.value[kind] ?? '',
      entered: entries.value.filter((each) => each.forecaster.kind === kind).length,
      cost: costs.of(plain(kind)),
    })),
)
watch(
  [suited, () => store.catalogue],
  ([now]) =>
    now && kinds.value.filter((each) => !each.reason).forEach((each) => costs.want(plain(each.kind))),
  { immediate: true },
)

function select(index: number) {
  selected.value = index
  side.value = 'entry'
}
function back() {
  selected.value = null
  side.value = 'shelf'
}
function varyKind(kind: string) {
  varied.value = entries.value.find((each) => each.forecaster.kind === kind) ?? plain(kind)
  side.value = 'vary'
}
function varyEntry() {
  varied.value = entry.value
  side.value = 'vary'
}
async function enterVariants(values: Record<string, unknown[]>) {
  if (varied.value && (await layout.vary(varied.value, values))) back()
}
async function run() {
  if (!prospect.failure.value && (await layout.start())) emit('close')
}
function escape() {
  if (side.value === 'shelf') emit('close')
  else back()
}
onMounted(() => {
  roomActions.run = () => void run()
  roomActions.stop = escape
})
onBeforeUnmount(() => (roomActions.run = roomActions.stop = null))
</script>

<template>
  <RoomFrame strip needs-data :origins="laid.folds.map((each) => each.cutoff)">
    <FoldPlan
      :laid="laid"
      :sealed="prospect.data.value?.sealed.length ?? 0"
      :line="prospect.data.value?.line ?? ''"
      :problem="lineProblem || prospect.failure.value"
      :refused="Boolean(prospect.failure.value)"
      class="folds"
      @change="design = $event"
      @say="layout.say"
      @settings="side = side === 'folds' ? 'shelf' : 'folds'"
    />
    <div class="below">
      <ContenderShelf
        v-if="side === 'shelf'"
        :kinds="kinds"
        @enter="layout.enter"
        @leave="layout.leave"
        @vary="varyKind"
        @bring="layout.bring"
      />
      <VaryPart
        v-else-if="side === 'vary' && varied"
        :key="varied.name"
        :entry="varied"
        :schema="schemaOf(varied.forecaster.kind)"
        @enter="enterVariants"
        @close="back"
      />
      <section v-else-if="side === 'folds'" class="panel side" aria-label="Settings of the folds">
        <h1>Settings of the folds</h1>
        <SettingsForm v-model="design" :schema="(store.catalogue?.folds ?? {}) as Record<string, unknown>" />
        <div><button class="button" @click="back">Back to the shelf</button></div>
      </section>
      <EntryForm
        v-else-if="entry"
        :key="selected ?? -1"
        :entry="entry"
        :unsuited="reasons[entry.forecaster.kind ?? ''] ?? ''"
        :moved="suited?.moved ?? null"
        :entries="entries"
        class="side"
        @change="layout.change(selected ?? 0, $event)"
        @rename="layout.change(selected ?? 0, { name: $event })"
      >
        <div class="buttons">
          <button v-if="entry.forecaster.kind !== 'blend'" class="button" @click="varyEntry">
            Vary its settings
          </button>
          <button class="button" @click="back">Back to the shelf</button>
        </div>
      </EntryForm>
      <DraftPanel
        :layout="layout"
        :selected="side === 'entry' ? selected : null"
        :reasons="reasons"
        @select="select"
        @blend="select(layout.blend())"
        @run="run"
        @close="emit('close')"
      />
    </div>
  </RoomFrame>
</template>

<style scoped>
.folds {
  flex: 0 0 206px;
}
.below {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template: minmax(0, 1fr) / minmax(0, 1.4fr) minmax(0, 1fr);
  gap: 8px;
}
.side {
  padding: 8px 16px;
  display: flex;
  flex-direction: column;
  gap: 8px;
  overflow: auto;
}
.buttons {
  display: flex;
  gap: 8px;
}
h1 {
  margin: 0;
}
</style>
