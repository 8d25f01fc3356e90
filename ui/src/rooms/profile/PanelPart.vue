<script setup lang="ts">
import ChoiceField from '../../widgets/ChoiceField.vue'
import InputText from 'primevue/inputtext'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, ref } from 'vue'
import SparkLine from '../../widgets/SparkLine.vue'
import { count } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import { useFeatures } from './features'

/** One row per series: sort by a column, filter by conditions, group by a word. */
const store = useProject()
const view = useView()
const features = useFeatures()
const host = ref<HTMLElement>()
const virtual = useVirtualizer(
  computed(() => ({
    count: features.rows.length,
    getScrollElement: () => host.value ?? null,
    estimateSize: () => 26,
    overscan: 12,
  })),
)
const items = computed(() =>
  virtual.value.getVirtualItems().map((item) => ({ ...item, row: features.rows[item.index] })),
)
const template = computed(() => `190px 70px ${features.columns.map((each) => `${each.width}px`).join(' ')}`)
function sortBy(name: string) {
  features.sort = { name, up: features.sort.name === name ? !features.sort.up : name === 'key' }
}
const arrow = (name: string) => (features.sort.name === name ? (features.sort.up ? ' ↑' : ' ↓') : '')
function step(by: number) {
  const at = features.rows.findIndex((row) => row.position === view.series)
  const next = features.rows[Math.min(Math.max(at + by, 0), features.rows.length - 1)]
  if (!next) return
  view.series = next.position
  virtual.value.scrollToIndex(features.rows.indexOf(next))
}
const grouping = computed(() => features.byName.get(features.group))
const head = (index: number) => {
  if (!grouping.value) return ''
  const row = features.rows[index]
  const before = features.rows[index - 1]
  const text = row ? grouping.value.text(row) : ''
  return row && (!before || grouping.value.text(before) !== text) ? text : ''
}
const asOf = computed(() =>
  store.axis && features.data ? store.axis.text(store.axis.time(features.data.until - 1)) : '',
)
</script>

<template>
  <div class="bar">
    <InputText v-model="features.search" class="field" placeholder="Series" aria-label="Filter by key" />
    <InputText
      v-model="features.condition"
      class="field wide"
      placeholder="Conditions, such as trend > 0.6, zeros < 0.1"
      aria-label="Conditions"
      :title="`Columns: ${features.columns.map((each) => each.name).join(', ')}`"
    />
    <label class="second"
      >Group by
      <ChoiceField
        v-model="features.group"
        :options="[{ value: '', label: 'nothing' }, 'demand', 'transform', 'periods', 'breaks']"
      />
    </label>
    <span class="grow"></span>
    <span v-if="features.conditions.wrong" class="worse">cannot read “{{ features.conditions.wrong }}”</span>
    <span class="second number"
      >{{ count(features.rows.length) }} of {{ count(store.dataset?.series.length) }}</span
    >
    <button v-if="features.state === 'running'" class="button" @click="features.act('stop')">Stop</button>
    <button
      v-else-if="features.state !== 'done' || features.stale"
      class="button primary"
      @click="features.act('compute')"
    >
      {{ features.state === 'stopped' && !features.stale ? 'Go on' : 'Compute as of the cutoff' }}
    </button>
  </div>
  <p v-if="features.state === 'running'" class="said" role="status">
    <progress :value="features.data?.done ?? 0" :max="features.data?.of ?? 1"></progress>
    <span class="number">{{ count(features.data?.done) }} of {{ count(features.data?.of) }} series</span>
  </p>
  <p v-else-if="features.data?.reason" class="said worse">{{ features.data.reason }}</p>
  <p v-else-if="features.state === 'empty'" class="said second">
    Nothing is computed for this version of the data yet. It runs in the background and is kept with the
    dataset.
  </p>
  <p v-else-if="features.stale" class="said worse">Out of date: computed as of {{ asOf }}, not the cutoff.</p>
  <div
    ref="host"
    class="panel table"
    role="grid"
    :aria-rowcount="features.rows.length"
    aria-label="Features of every series"
    tabindex="0"
    @keydown.down.prevent="step(1)"
    @keydown.up.prevent="step(-1)"
  >
    <div class="row head" role="row" :style="{ gridTemplateColumns: template }">
      <button role="columnheader" class="key" @click="sortBy('key')">series{{ arrow('key') }}</button>
      <span></span>
      <button
        v-for="each in features.columns"
        :key="each.name"
        role="columnheader"
        :title="each.help"
        :aria-sort="
          features.sort.name === each.name ? (features.sort.up ? 'ascending' : 'descending') : undefined
        "
        @click="sortBy(each.name)"
      >
        {{ each.title }}{{ arrow(each.name) }}
      </button>
    </div>
    <div class="body" :style="{ height: `${virtual.getTotalSize()}px` }">
      <template v-for="item in items" :key="item.index">
        <div
          v-if="item.row"
          class="row"
          role="row"
          :aria-selected="item.row.position === view.series"
          :class="{ here: item.row.position === view.series }"
          :style="{ gridTemplateColumns: template, transform: `translateY(${item.start}px)` }"
          :title="item.row.verdict"
          @click="view.series = item.row.position"
          @dblclick="view.part = 'level'"
        >
          <span class="key" role="gridcell">
            <b v-if="head(item.index)">{{ head(item.index) }}</b> {{ item.row.key }}
          </span>
          <SparkLine :values="item.row.spark" />
          <span v-for="each in features.columns" :key="each.name" class="number" role="gridcell">{{
            each.text(item.row)
          }}</span>
        </div>
      </template>
    </div>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  gap: 8px;
  align-items: center;
}
.wide {
  width: 300px;
}
.grow {
  flex: 1;
}
.said {
  margin: 0;
  display: flex;
  gap: 8px;
  align-items: center;
}
progress {
  accent-color: var(--ink);
}
.table {
  flex: 1;
  overflow: auto;
  position: relative;
}
.row {
  display: grid;
  align-items: center;
  height: 26px;
  border-bottom: 1px solid var(--hairline);
  width: max-content;
  min-width: 100%;
}
.body {
  position: relative;
}
.body .row {
  position: absolute;
  top: 0;
  left: 0;
  cursor: pointer;
}
.row > * {
  padding: 0 8px;
  text-align: right;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.row > .key {
  text-align: left;
  position: sticky;
  left: 0;
  background: var(--panel);
  line-height: 25px;
  z-index: 1;
}
.row > svg {
  padding: 0;
}
.here,
.here > .key {
  background: var(--selection);
}
.head {
  position: sticky;
  top: 0;
  background: var(--panel);
  z-index: 2;
}
.head button {
  border: 0;
  background: var(--panel);
  cursor: pointer;
  color: var(--ink-2);
  height: 100%;
}
path {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1;
}
</style>
