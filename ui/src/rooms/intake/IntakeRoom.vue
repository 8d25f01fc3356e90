<script setup lang="ts">
import Tab from 'primevue/tab'
import TabList from 'primevue/tablist'
import Tabs from 'primevue/tabs'
import { computed, onBeforeUnmount, ref } from 'vue'
import { attempt, client, unwrap, type Draft, type Shapes } from '../../api/client'
import { observedSeries } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useLine } from '../../charts/useLine'
import { roomActions } from '../../state/keys'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import BringData from './BringData.vue'
import DatasetFacts from './DatasetFacts.vue'
import DatasetEdits from './DatasetEdits.vue'
import FindingList from './FindingList.vue'
import PreviewLine from './PreviewLine.vue'
import RawRows from './RawRows.vue'
import ReadingFacts from './ReadingFacts.vue'
import SeriesTable from './SeriesTable.vue'
import { useGivenFiles } from './useGivenFiles'
import { useIntake, type Role } from './useIntake'
import VersionList from './VersionList.vue'

/** What a tab shows stands beside it, not in a panel of the library's. */
const NO_PANEL = { root: { 'aria-controls': null } }
const store = useProject()
const view = useView()
const intake = useIntake()
const { uploads, preview, effect, account, progress, failure, busy, recipe } = intake
const points = useLine()
const line = points.data
const lit = ref<number[]>([])
const tab = ref<'series' | 'versions'>('series')
const bringing = ref(false)
const { picker, accountPicker, over, take, takeAccount, drop } = useGivenFiles(intake, bringing)
const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const lane = computed(() => (line.value ? observedSeries(line.value, cutoffTime.value) : []))
const stored = computed(
  () => (store.dataset?.account ?? {}) as { rows?: number; findings?: Shapes['FindingView'][] },
)
const findings = computed(() =>
  uploads.value.length ? (preview.value?.findings ?? []) : (stored.value.findings ?? []),
)
const unsettled = computed(() => findings.value.some((each) => each.settled === false))
const words = computed(() => {
  if (store.intake) return `${store.intake.stage}, ${Math.round(store.intake.share * 100)} %`
  if (progress.value !== null && progress.value < 1) return `Sending, ${Math.round(progress.value * 100)} %`
  return 'Reading'
})
const share = computed(() => store.intake?.share ?? progress.value)
const effectNote = computed(() => {
  const of = findings.value.find((each) => each.id === effect.value?.id)
  return of?.remedies.find((each) => each.name === effect.value?.remedy)?.label ?? ''
})

function setRole(column: string, role: Role) {
  const next = { ...(recipe.value.roles ?? {}) }
  // Time is one column, or a date and a clock: the old one steps back.
  const clock = (text: string) => /^\d{1,2}:\d{2}/.test(text)
  const at = preview.value?.columns.findIndex((each) => each.name === column) ?? -1
  for (const each of preview.value?.columns ?? [])
    if (role === 'time' && each.role === 'time' && !clock(preview.value?.sample[0]?.[at] ?? ''))
      next[each.name] = 'ignore'
  void intake.change({ roles: { ...next, [column]: role } })
}
/** Where a finding is: its rows, or its place on the series. */
function point(finding: Shapes['FindingView']) {
  lit.value = [...finding.rows]
  const span = finding.spans[0]
  if (!span) return
  if (uploads.value.length) {
    if (intake.place(finding)) void intake.refresh()
    return
  }
  const index = store.dataset?.series.findIndex((each) => each.key === span.key) ?? -1
  if (index < 0 || !store.axis) return
  view.series = index
  const room = Math.max(48, (span.stop - span.start) * 0.4)
  view.setSpan(store.axis.time(span.start - room), store.axis.time(span.stop + room))
}

function showWhole() {
  intake.span.value = null
  void intake.refresh()
}

async function edit(changes: Draft<Shapes['EditBody']['edit']>) {
  const id = store.dataset?.id
  if (id === undefined) return
  const params = { path: { dataset_id: id } }
  const asked = () =>
    unwrap(
      client.POST('/api/v1/datasets/{dataset_id}/edit', {
        params,
        body: { edit: changes, name: null } as Shapes['EditBody'],
      }),
    )
  if (await attempt(asked)) await store.reload()
}
function leave() {
  intake.forget()
  bringing.value = false
}
async function make() {
  await intake.make()
  if (!uploads.value.length) bringing.value = false
}
roomActions.stop = () => leave()
onBeforeUnmount(() => (roomActions.stop = null))
</script>

<template>
  <RoomFrame
    :strip="!uploads.length && !bringing"
    :class="{ over }"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="drop"
  >
    <input
      ref="picker"
      type="file"
      multiple
      class="sr-only"
      aria-label="File"
      @change="take(($event.target as HTMLInputElement).files)"
    />
    <input
      ref="accountPicker"
      type="file"
      class="sr-only"
      aria-label="Account"
      @change="takeAccount(($event.target as HTMLInputElement).files)"
    />
    <p v-if="failure" class="failure worse" role="alert">{{ failure }}</p>
    <template v-if="uploads.length && preview && !busy">
      <p v-if="preview.problem" class="failure worse" role="alert">{{ preview.problem.detail }}</p>
      <RawRows :preview="preview" :roles="store.catalogue?.roles ?? []" :lit="lit" @role="setRole" />
      <PreviewLine
        v-if="preview.line"
        :line="preview.line"
        :other="effect?.line"
        :note="effectNote"
        :zone="preview.zone"
        :part="intake.span.value !== null"
        @whole="showWhole"
        :title="preview.line_key"
        :unit="recipe.unit ?? ''"
      />
    </template>
    <BringData
      v-else-if="busy || bringing || !store.dataset"
      :busy="busy"
      :words="words"
      :progress="share"
      :account="account !== null"
      @pick="picker?.click()"
      @account="accountPicker?.click()"
      @from="intake.fetchFrom"
    />
    <template v-else>
      <TimeLane
        :answer="points"
        name="observed"
        :title="view.key"
        :unit="view.unit"
        :series="lane"
        :filled="line"
        show-time
        class="one"
      />
      <Tabs v-model:value="tab" select-on-focus>
        <TabList aria-label="Series and versions">
          <Tab value="series" :pt="NO_PANEL">Series</Tab>
          <Tab value="versions" :pt="NO_PANEL">
            Versions <span class="number second">{{ store.project?.datasets.length }}</span>
          </Tab>
        </TabList>
      </Tabs>
      <SeriesTable v-if="tab === 'series'" @edit="edit" />
      <VersionList v-else />
    </template>

    <template #inspector>
      <ReadingFacts v-if="uploads.length && preview" :intake="intake" :findings="findings" @point="point" />
      <template v-else-if="store.dataset && !bringing">
        <DatasetFacts />
        <DatasetEdits @edit="edit" />
        <FindingList :findings="findings" :live="false" @point="point" />
      </template>
      <template v-else
        ><h1>{{ store.dataset ? 'New data' : 'No data yet' }}</h1>
        <p class="second">
          A dataset is one immutable version; every import and every change makes a new one.
        </p></template
      >
      <span class="grow"></span>
      <div class="buttons">
        <template v-if="uploads.length">
          <button
            class="button primary"
            :disabled="busy || !!preview?.problem || !preview?.series_count || unsettled"
            v-tip="unsettled ? 'A finding wants a choice first' : ''"
            @click="make"
          >
            Make dataset
          </button>
          <button class="button" @click="leave">Leave it</button>
        </template>
        <button v-else-if="store.dataset && !bringing" class="button" @click="bringing = true">
          Bring data
        </button>
        <button v-else-if="store.dataset" class="button" @click="leave">Back</button>
      </div>
    </template>
  </RoomFrame>
</template>

<style scoped>
.over {
  background: var(--selection);
}
.failure {
  margin: 0;
  padding: 6px 8px;
}
.one {
  flex: 1;
  min-height: 160px;
}
.grow {
  flex: 1;
}
.buttons {
  display: flex;
  gap: 8px;
  position: sticky;
  bottom: -12px;
  background: var(--panel);
  padding: 8px 0;
}
</style>
