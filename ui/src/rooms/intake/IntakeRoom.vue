<script setup lang="ts">
import InputText from 'primevue/inputtext'
import Tab from 'primevue/tab'
import TabList from 'primevue/tablist'
import Tabs from 'primevue/tabs'
import { useEventListener } from '@vueuse/core'
import { computed, onBeforeUnmount, ref } from 'vue'
import { attempt, client, unwrap, type Draft, type Shapes } from '../../api/client'
import { observedSeries } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useLine } from '../../charts/useLine'
import { count } from '../../state/format'
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
import RecipeForm from './RecipeForm.vue'
import SeriesTable from './SeriesTable.vue'
import { useIntake, type Role } from './useIntake'
import VersionList from './VersionList.vue'

/** What a tab shows stands beside it, not in a panel of the library's. */
const NO_PANEL = { root: { 'aria-controls': null } }
const store = useProject()
const view = useView()
const intake = useIntake()
const { uploads, preview, effect, account, progress, failure, busy, recipe, name } = intake
const points = useLine()
const line = points.data
const picker = ref<HTMLInputElement>()
const accountPicker = ref<HTMLInputElement>()
const over = ref(false)
const lit = ref<number[]>([])
const tab = ref<'series' | 'versions'>('series')
const bringing = ref(false)
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
function take(files: FileList | null | undefined) {
  const all = [...(files ?? [])]
  if (all.length) void intake.bring(all.map((file) => ({ content: file, name: file.name })))
}
async function takeAccount(files: FileList | null) {
  const text = await files?.[0]?.text()
  if (text === undefined) return
  try {
    account.value = JSON.parse(text) as Record<string, unknown>
    bringing.value = true
    picker.value?.click()
  } catch {
    failure.value = 'This is not an account: it is not JSON.'
  }
}
function drop(event: DragEvent) {
  over.value = false
  take(event.dataTransfer?.files)
}
useEventListener('paste', (event: ClipboardEvent) => {
  if (['INPUT', 'TEXTAREA'].includes((event.target as HTMLElement).tagName)) return
  const text = event.clipboardData?.getData('text') ?? ''
  if (event.clipboardData?.files.length) take(event.clipboardData.files)
  else if (text.trim()) void intake.bring([{ content: new Blob([text]), name: 'pasted.csv' }])
})

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
      <template v-if="uploads.length && preview">
        <h1 :title="uploads.map((each) => each.name).join(', ')">
          {{ uploads[0]?.name
          }}<template v-if="uploads.length > 1"> and {{ uploads.length - 1 }} more</template>
        </h1>
        <p class="second facts">
          {{ count(preview.rows) }} rows, {{ preview.format }};
          {{ count(preview.series_count) }} series<template v-if="preview.step">
            of {{ preview.step }}</template
          >
        </p>
        <section v-if="preview.differences" class="differences">
          <h2>Since the last delivery</h2>
          <p v-for="sentence in preview.differences" :key="sentence">{{ sentence }}</p>
          <p v-if="!preview.differences.length" class="second">Nothing differs.</p>
        </section>
        <FindingList
          :findings="findings"
          live
          :trying="effect"
          @point="point"
          @choose="intake.choose"
          @try-out="intake.tryOut"
        />
        <RecipeForm :recipe="recipe" :preview="preview" :files="uploads.length" @change="intake.change" />
        <div class="entries">
          <label>Name<InputText v-model="name" class="field" /></label>
        </div>
      </template>
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
            :title="unsettled ? 'A finding wants a choice first' : ''"
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
table.facts {
  width: 100%;
  border-collapse: collapse;
}
p.facts,
.differences p {
  margin: 0;
  font-size: 12px;
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
