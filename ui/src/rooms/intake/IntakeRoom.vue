<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { computed, ref } from 'vue'
import { attempt, download, type Shapes } from '../../api/client'
import { observedSeries } from '../../charts/lane'
import TimeLane from '../../charts/TimeLane.vue'
import { useLine } from '../../charts/useLine'
import { count, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import RoomFrame from '../../widgets/RoomFrame.vue'
import PreviewLine from './PreviewLine.vue'
import RawTable from './RawTable.vue'
import { useUpload, type Role } from './useUpload'

const store = useProject()
const view = useView()
const { upload, preview, progress, failure, busy, reading, name, bring, refresh, make, forget } = useUpload()
const { data: line } = useLine()
const picker = ref<HTMLInputElement>()
const over = ref(false)
const roles = computed(() => store.catalogue?.roles ?? [])
const account = computed(
  () =>
    (store.dataset?.account ?? {}) as {
      rows?: number
      encoding?: string
      findings?: Shapes['FindingView'][]
    },
)
const findings = computed(() => preview.value?.findings ?? account.value.findings ?? [])
const cutoffTime = computed(() => store.axis?.time(view.cutoff - 1) ?? 0)
const lane = computed(() => (line.value ? observedSeries(line.value, cutoffTime.value) : []))

function setRole(column: string, role: Role) {
  const next = { ...reading.value.roles }
  // Time is one column: the old one steps back.
  for (const each of preview.value?.columns ?? [])
    if (role === 'time' && each.role === 'time') next[each.name] = 'ignore'
  reading.value.roles = { ...next, [column]: role }
  void refresh()
}

function take(files: FileList | null | undefined) {
  const file = files?.[0]
  if (file) void bring(file, file.name)
}
function drop(event: DragEvent) {
  over.value = false
  take(event.dataTransfer?.files)
}
useEventListener('paste', (event: ClipboardEvent) => {
  if ((event.target as HTMLElement).tagName === 'INPUT') return
  const text = event.clipboardData?.getData('text') ?? ''
  if (event.clipboardData?.files.length) take(event.clipboardData.files)
  else if (text.trim()) void bring(new Blob([text]), 'pasted.csv')
})
</script>

<template>
  <RoomFrame :strip="!upload" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="drop">
    <input
      ref="picker"
      type="file"
      class="sr-only"
      aria-label="File"
      @change="take(($event.target as HTMLInputElement).files)"
    />
    <p v-if="failure" class="failure worse" role="alert">{{ failure }}</p>
    <template v-if="upload && preview">
      <p v-if="preview.problem" class="failure worse" role="alert">{{ preview.problem.detail }}</p>
      <RawTable :preview="preview" :roles="roles" @role="setRole" />
      <PreviewLine
        v-if="preview.line"
        :line="preview.line"
        :zone="preview.zone"
        :title="preview.series[0]?.key ?? ''"
        :unit="reading.unit"
      />
    </template>
    <template v-else-if="store.dataset && !busy">
      <TimeLane name="observed" :title="view.key" :unit="view.unit" :series="lane" show-time class="one" />
      <div class="series panel" tabindex="0">
        <table>
          <thead>
            <tr>
              <th>series</th>
              <th>points</th>
              <th>missing</th>
              <th>lowest</th>
              <th>highest</th>
              <th>from</th>
              <th>to</th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="(each, i) in store.dataset.series"
              :key="each.key"
              :class="{ here: i === view.series }"
              @click="view.series = i"
            >
              <td>{{ each.key }}</td>
              <td class="number">{{ count(each.length) }}</td>
              <td class="number">{{ count(each.missing) }}</td>
              <td class="number">{{ number(each.lowest) }}</td>
              <td class="number">{{ number(each.highest) }}</td>
              <td class="number">{{ store.axis?.input(each.first) }}</td>
              <td class="number">{{ store.axis?.input(each.last) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <div v-else class="bring panel" :class="{ over }">
      <template v-if="busy">
        <progress :value="progress ?? undefined"></progress>
        <p class="second">
          {{ progress === null || progress >= 1 ? 'Reading' : `Sending, ${Math.round(progress * 100)} %` }}
        </p>
      </template>
      <template v-else>
        <h1>Bring data in</h1>
        <p class="second">
          Drop a delimited text file here, paste cells, or choose a file. Rows may be long (time, key, value)
          or one column per series.
        </p>
        <button class="button primary" @click="picker?.click()">Choose a file</button>
      </template>
    </div>

    <template #inspector>
      <template v-if="upload && preview">
        <h1>{{ upload.name }}</h1>
        <table class="facts">
          <tbody>
            <tr>
              <td>rows</td>
              <td class="number">{{ count(preview.rows) }}</td>
            </tr>
            <tr>
              <td>encoding</td>
              <td class="number">{{ preview.encoding }}</td>
            </tr>
            <tr>
              <td>step found</td>
              <td class="number">{{ preview.step ?? '–' }}</td>
            </tr>
            <tr>
              <td>series</td>
              <td class="number">{{ count(preview.series.length) }}</td>
            </tr>
          </tbody>
        </table>
        <label
          >Step
          <input v-model.lazy="reading.step" class="field number" placeholder="guessed" @change="refresh"
        /></label>
        <label>Time zone <input v-model.lazy="reading.zone" class="field number" @change="refresh" /></label>
        <label
          >Unit
          <input
            v-model.lazy="reading.unit"
            class="field number"
            placeholder="such as m³/h"
            @change="refresh"
        /></label>
        <label>Name <input v-model="name" class="field" /></label>
      </template>
      <template v-else-if="store.dataset">
        <h1>{{ store.dataset.name }}</h1>
        <table class="facts">
          <tbody>
            <tr>
              <td>version</td>
              <td class="number">{{ store.dataset.version }}</td>
            </tr>
            <tr>
              <td>hash</td>
              <td class="number" :title="store.dataset.hash">{{ store.dataset.hash.slice(0, 12) }}</td>
            </tr>
            <tr>
              <td>rows read</td>
              <td class="number">{{ count(account.rows) }}</td>
            </tr>
            <tr>
              <td>series × steps</td>
              <td class="number">{{ count(store.dataset.series.length) }} × {{ count(store.axis?.end) }}</td>
            </tr>
            <tr>
              <td>step, zone</td>
              <td class="number">{{ store.dataset.grid.step }}, {{ store.dataset.grid.zone }}</td>
            </tr>
            <tr v-for="column in store.dataset.columns" :key="column.name">
              <td>{{ column.role?.replace('_', ' ') }}</td>
              <td>{{ column.name }}</td>
            </tr>
          </tbody>
        </table>
      </template>
      <template v-else
        ><h1>No data yet</h1>
        <p class="second">A dataset is one immutable version; every import makes a new one.</p></template
      >
      <template v-if="findings.length">
        <h2>Findings</h2>
        <div v-for="finding in findings" :key="finding.message" class="finding">
          <b>{{ finding.code }}:</b>{{ ' ' }}
          <span :class="finding.severity === 'warning' ? 'worse' : 'second'">{{ finding.message }}</span>
        </div>
      </template>
      <span class="grow"></span>
      <div class="buttons">
        <template v-if="upload">
          <button
            class="button primary"
            :disabled="busy || !!preview?.problem || !preview?.series.length"
            @click="make"
          >
            Make dataset
          </button>
          <button class="button" @click="forget">Leave it</button>
        </template>
        <template v-else-if="store.dataset">
          <button class="button" @click="picker?.click()">Bring a file</button>
          <button
            class="button"
            @click="
              attempt(() =>
                download(`/api/v1/datasets/${store.dataset?.id}/data.csv`, `${store.dataset?.name}.csv`),
              )
            "
          >
            CSV
          </button>
        </template>
      </div>
    </template>
  </RoomFrame>
</template>

<style scoped>
.bring {
  flex: 1;
  display: flex;
  flex-direction: column;
  align-items: center;
  justify-content: center;
  gap: 8px;
}
.bring p {
  max-width: 460px;
  text-align: center;
  margin: 0 0 8px;
}
.over {
  background: var(--selection);
}
.failure {
  margin: 0;
  padding: 6px 8px;
}
.one {
  flex: 1;
}
.series {
  flex: 1;
  overflow: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
}
.series th {
  position: sticky;
  top: 0;
  background: var(--panel);
  font-weight: 400;
  color: var(--ink-2);
  text-align: right;
  padding: 8px 12px;
  border-bottom: 1px solid var(--hairline);
}
.series td {
  text-align: right;
  padding: 4px 12px;
}
.series th:first-child,
.series td:first-child {
  text-align: left;
}
.series tr {
  cursor: pointer;
}
.here {
  background: var(--selection);
}
label {
  display: grid;
  grid-template-columns: 90px minmax(0, 1fr);
  align-items: center;
  color: var(--ink-2);
}
.finding {
  border-bottom: 1px solid var(--hairline);
  padding-bottom: 6px;
}
.grow {
  flex: 1;
}
.buttons {
  display: flex;
  gap: 8px;
}
</style>
