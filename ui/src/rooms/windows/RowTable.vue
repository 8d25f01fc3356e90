<script setup lang="ts">
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Shapes } from '../../api/client'
import { fixed } from '../../state/format'
import { useProject, type Choices } from '../../state/project'
import { useView } from '../../state/view'
import { columnReadings } from './columnKinds'
import type { Plan } from './planText'
import RowHead from './RowHead.vue'
import RowTools from './RowTools.vue'
import { useScroll, WIDTH } from './useScroll'
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
const host = ref<HTMLDivElement>()
const selected = ref(-1)
const { pages, names, sort, filterText, filterComplaint, where, total, ask, need, rowOf, order, filter } =
  useRowPages(props)

const lead = computed(() => (props.series === null ? 270 : 150))
const { virtual, items, across, seen } = useScroll(host, total, () => names.value.length, lead)

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
async function goToTime(time: number) {
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
const told = computed(() =>
  columnReadings(props.lit ? facts.value.get(props.lit) : undefined, props.columns?.target),
)
watch(told, (rows) => (view.readings = { ...view.readings, windows: rows }))
onBeforeUnmount(() => (view.readings = { ...view.readings, windows: [] }))
const width = computed(() => lead.value + names.value.length * WIDTH)
</script>

<template>
  <div class="panel frame">
    <RowTools
      v-model:filter-text="filterText"
      :total="total"
      :complaint="filterComplaint"
      :targets="table.target_names"
      @go="goToTime"
      @filter="filter"
      @target="emit('target', $event)"
    />
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
      <RowHead
        :table="table"
        :facts="facts"
        :names="names"
        :seen="seen"
        :lit="lit"
        :sort="sort"
        :lead="lead"
        :column-width="WIDTH"
        :with-series="series === null"
        @light="emit('column', $event)"
        @order="order"
      />
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
.table {
  flex: 1;
  overflow: auto;
  position: relative;
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
.row .origin {
  height: 22px;
  box-sizing: border-box;
}
.key {
  overflow: hidden;
  text-overflow: ellipsis;
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
