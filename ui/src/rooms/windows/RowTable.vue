<script setup lang="ts">
import ChoiceField from '../../widgets/ChoiceField.vue'
import InputText from 'primevue/inputtext'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Shapes } from '../../api/client'
import { count, fixed } from '../../state/format'
import { useProject, type Choices } from '../../state/project'
import { useView } from '../../state/view'
import ColumnHead from './ColumnHead.vue'
import { COLORS, columnGroups, columnReadings } from './columnKinds'
import type { Plan } from './planText'
import { useRowPages } from './useRowPages'
import { PAGE } from './useWindowTable'

/** The table with only the rows and columns in view in the page; arrow keys move the lit row. */
const props = defineProps<{
  table: Shapes['WindowsView']
  columns: Shapes['ColumnFactsView'] | null
  plan: Plan
  chain: NonNullable<Choices['chain']>
  until: number
  series: number | null
  lit: string | null
}>()
const emit = defineEmits<{
  row: [position: number | null, series: number]
  column: [name: string | null]
  target: [place: number]
}>()
const store = useProject()
const view = useView()
/** The target that facts of columns are against, by its place. */
const against = ref(0)
const host = ref<HTMLDivElement>()
const selected = ref(-1)
const WIDTH = 92
const { pages, names, sort, filterText, filterComplaint, where, total, ask, need, rowOf, order, filter } =
  useRowPages(props)
const goTime = ref('')

const virtual = useVirtualizer(
  computed(() => ({
    count: total.value,
    getScrollElement: () => host.value ?? null,
    estimateSize: () => 22,
    overscan: 6,
  })),
)
const items = computed(() => virtual.value.getVirtualItems())
const lead = computed(() => (props.series === null ? 270 : 150))
const across = useVirtualizer(
  computed(() => ({
    horizontal: true,
    count: names.value.length,
    getScrollElement: () => host.value ?? null,
    estimateSize: () => WIDTH,
    paddingStart: lead.value,
    scrollPaddingStart: lead.value,
    overscan: 2,
  })),
)
const seen = computed(() => across.value.getVirtualItems())

watch(
  [items, pages],
  () =>
    [...new Set(items.value.map((item) => Math.floor(item.index / PAGE)))].forEach((page) => void need(page)),
  { immediate: true },
)

const shownRows = computed(() => items.value.map((item) => ({ item, row: rowOf(item.index) })))

function select(index: number) {
  selected.value = Math.min(Math.max(index, 0), total.value - 1)
  virtual.value.scrollToIndex(selected.value, { align: 'auto' })
}
function aside(by: number) {
  const at = names.value.indexOf(props.lit ?? '')
  const next = Math.min(Math.max(at + by, 0), names.value.length - 1)
  emit('column', names.value[next] ?? null)
  across.value.scrollToIndex(next, { align: 'auto' })
}
watch(
  () => rowOf(selected.value),
  (row) => emit('row', row?.position ?? null, row?.series ?? 0),
)
async function goTo(found: number | null | undefined) {
  if (found === null || found === undefined || !total.value) return
  selected.value = found
  await nextTick()
  virtual.value.scrollToIndex(found, { align: 'center' })
}
async function goToOrigin() {
  const time = store.axis?.parse(goTime.value)
  if (time === null || time === undefined) return
  const answer = await ask(0, 0, store.axis?.position(time) ?? 0)
  await goTo(answer?.found)
  host.value?.focus()
}
watch(
  () => [props.table.found, props.table.total],
  () => sort.value === null && !where.value.length && void goTo(props.table.found),
)
onMounted(() => requestAnimationFrame(() => void goTo(props.table.found)))

const facts = computed(() => new Map((props.columns?.columns ?? []).map((each) => [each.name, each])))
const kindOf = computed(() => new Map(props.table.sources.map((each) => [each.name, each.kind])))
const groups = computed(() => columnGroups(names.value, props.table.names.length, kindOf.value))
const told = computed(() =>
  columnReadings(props.lit ? facts.value.get(props.lit) : undefined, props.columns?.target),
)
watch(told, (rows) => (view.readings = { ...view.readings, windows: rows }))
onBeforeUnmount(() => (view.readings = { ...view.readings, windows: [] }))
const width = computed(() => lead.value + names.value.length * WIDTH)
</script>

<template>
  <div class="panel frame">
    <div class="tools">
      <span class="second number">{{ count(total) }} rows</span>
      <label class="second"
        >go to
        <InputText
          v-model="goTime"
          class="field number when"
          placeholder="2024-03-12"
          @keydown.enter="goToOrigin"
      /></label>
      <label class="second filter"
        >only
        <InputText
          v-model="filterText"
          class="field number"
          placeholder="lag 1 >= 40; weekday sin -1..0"
          aria-label="Only rows where"
          @keydown.enter="filter"
          @blur="filter"
      /></label>
      <label v-if="table.target_names.length > 1" class="second"
        >facts against
        <ChoiceField
          label="Target the facts are against"
          :model-value="against"
          :options="table.target_names.map((label, value) => ({ value, label }))"
          @update:model-value="((against = $event), emit('target', $event))"
      /></label>
      <span v-if="filterComplaint" class="told worse" role="alert">{{ filterComplaint }}</span>
    </div>
    <div
      ref="host"
      class="table"
      tabindex="0"
      role="grid"
      :aria-rowcount="total"
      :aria-colcount="names.length + 1"
      aria-label="Window table"
      @keydown.down.prevent="select(selected + 1)"
      @keydown.up.prevent="select(selected - 1)"
      @keydown.page-down.prevent="select(selected + 20)"
      @keydown.page-up.prevent="select(selected - 20)"
      @keydown.home.prevent="select(0)"
      @keydown.end.prevent="select(total - 1)"
      @keydown.left.prevent="aside(-1)"
      @keydown.right.prevent="aside(1)"
      @keydown.enter.prevent="lit && order(lit)"
    >
      <div class="head" role="row" :style="{ width: width + 'px' }">
        <span class="origin" role="columnheader" :style="{ width: lead + 'px' }">
          <button class="plain when" @click="order('origin')">
            origin{{ sort?.column === 'origin' ? (sort.descending ? ' ↓' : ' ↑') : '' }}
          </button>
          <span v-if="series === null" class="key">series</span>
        </span>
        <span
          v-for="group in groups"
          :key="group.kind + group.start"
          class="group"
          role="presentation"
          aria-hidden="true"
          :style="{
            left: lead + group.start * WIDTH + 'px',
            width: group.size * WIDTH - 6 + 'px',
            borderColor: COLORS[group.kind],
          }"
          ><b :style="{ left: lead + 6 + 'px' }">{{ group.title }}</b></span
        >
        <ColumnHead
          v-for="item in seen"
          :key="item.index"
          :name="names[item.index] ?? ''"
          :facts="facts.get(names[item.index] ?? '')"
          :color="
            COLORS[item.index >= table.names.length ? 'target' : (kindOf.get(names[item.index] ?? '') ?? '')]
          "
          :lit="names[item.index] === lit"
          :first-target="item.index === table.names.length"
          :sorted="sort?.column === names[item.index] ? (sort?.descending ? '↓' : '↑') : ''"
          :style="{ left: item.start + 'px', width: WIDTH + 'px' }"
          @mouseenter="emit('column', names[item.index] ?? null)"
          @click="order(names[item.index] ?? '')"
        />
      </div>
      <div
        class="body number"
        role="rowgroup"
        :style="{ height: virtual.getTotalSize() + 'px', width: width + 'px' }"
      >
        <div
          v-for="{ item, row } in shownRows"
          :key="item.index"
          role="row"
          :aria-rowindex="item.index + 1"
          class="row"
          :class="{ here: item.index === selected }"
          :style="{ transform: `translateY(${item.start}px)` }"
          @mouseenter="selected = item.index"
          @click="selected = item.index"
        >
          <span class="origin" role="rowheader" :style="{ width: lead + 'px' }">
            <span class="when">{{ row ? store.axis?.input(row.time) : '…' }}</span>
            <span v-if="series === null && row" class="key">{{
              store.dataset?.series[row.series]?.key
            }}</span>
          </span>
          <template v-if="row">
            <span
              v-for="column in seen"
              :key="column.index"
              class="cell"
              role="gridcell"
              :class="{
                goal: column.index >= table.names.length,
                first: column.index === table.names.length,
                lit: names[column.index] === lit,
              }"
              :style="{ left: column.start + 'px', width: WIDTH + 'px' }"
              @mouseenter="emit('column', names[column.index] ?? null)"
              >{{ fixed(row.cells[column.index], 3) }}</span
            >
          </template>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.frame {
  flex: 1;
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.tools {
  display: flex;
  align-items: center;
  gap: 12px;
  height: 30px;
  padding: 0 10px;
  border-bottom: 1px solid var(--hairline);
  font-size: 12px;
  white-space: nowrap;
}
.tools .field {
  height: 22px;
  font-size: 12px;
  padding: 0 6px;
}
.tools .when {
  width: 128px;
}
.origin .when {
  flex: 0 0 118px;
  text-align: left;
}
.filter input {
  width: 200px;
}
.told {
  overflow: hidden;
  text-overflow: ellipsis;
  min-width: 0;
}
.table {
  flex: 1;
  overflow: auto;
  position: relative;
}
.head {
  position: sticky;
  top: 0;
  z-index: 3;
  background: var(--panel);
  border-bottom: 1px solid var(--hairline);
  color: var(--ink-2);
  height: 62px;
}
.group {
  position: absolute;
  top: 2px;
  height: 16px;
  border-top: 2px solid;
  font-size: 12px;
  margin-left: 6px;
  overflow: clip;
}
.group b {
  position: sticky;
  font-weight: 400;
}
.origin {
  position: sticky;
  left: 0;
  z-index: 2;
  background: var(--panel);
  padding-left: 10px;
  display: inline-flex;
  align-items: center;
  gap: 10px;
  white-space: nowrap;
}
.head .origin {
  height: 61px;
  align-items: flex-end;
  padding-bottom: 31px;
  box-sizing: border-box;
}
.row .origin {
  height: 22px;
  box-sizing: border-box;
}
.key {
  overflow: hidden;
  text-overflow: ellipsis;
}
.plain {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  cursor: pointer;
}
.body {
  position: relative;
}
.row {
  position: absolute;
  top: 0;
  left: 0;
  right: 0;
  height: 22px;
  font-size: 12px;
}
.cell {
  position: absolute;
  top: 0;
  height: 22px;
  line-height: 22px;
  text-align: right;
  padding-right: 10px;
  box-sizing: border-box;
}
.here,
.here .origin {
  background: var(--selection);
}
.goal {
  color: var(--ink);
  font-weight: 500;
}
.first {
  box-shadow: inset 1.5px 0 0 var(--cutoff);
}
.cell.lit {
  background: var(--selection);
}
</style>
