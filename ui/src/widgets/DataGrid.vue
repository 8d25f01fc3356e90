<script setup lang="ts" generic="Row extends object">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, nextTick, ref, watch } from 'vue'
import { sorted, type GridColumn, type GridSort } from './grid'
import { useColumnWidths } from './columnWidths'

/**
 * A table: sorted by its heads, its columns drawn wider, rows chosen by arrows, only those in view in the page.
 *
 * Its own, since the library's makes a component of every cell: a room with one was painted a third of a second later.
 */
const props = withDefaults(
  defineProps<{
    rows: Row[]
    columns: GridColumn<Row>[]
    keyOf: (row: Row) => string | number
    label: string
    selected?: string | number | null
    /** The order, where somebody else keeps it and sorts. */
    order?: GridSort | null
    rowHeight?: number
    rowClass?: (row: Row) => string
    empty?: string
    sortable?: boolean
  }>(),
  { selected: null, order: null, rowHeight: 26, rowClass: () => '', empty: '', sortable: true },
)
const emit = defineEmits<{ select: [row: Row]; open: [row: Row]; order: [order: GridSort] }>()
/** Rows that are drawn whether in view or not. */
const DRAWN = 40
const own = ref<GridSort | null>(null)
const now = computed(() => props.order ?? own.value)
const shown = computed(() => {
  if (props.order || !own.value) return props.rows
  const column = props.columns.find((each) => each.name === own.value?.name)
  return sorted(props.rows, column, own.value.up)
})
const body = ref<HTMLElement>()
const { widths, drag, widen } = useColumnWidths(body)
const virtual = useVirtualizer(
  computed(() => ({
    count: shown.value.length,
    getScrollElement: () => body.value ?? null,
    estimateSize: () => props.rowHeight,
    overscan: 8,
    enabled: shown.value.length > DRAWN,
  })),
)
/** What is drawn, and the room left for what is not, px. */
const view = computed(() => {
  if (shown.value.length <= DRAWN) return { rows: shown.value, above: 0, below: 0 }
  const items = virtual.value.getVirtualItems()
  const [first, last] = [items[0]?.index ?? 0, items.at(-1)?.index ?? -1]
  return {
    rows: shown.value.slice(first, last + 1),
    above: first * props.rowHeight,
    below: (shown.value.length - 1 - last) * props.rowHeight,
  }
})

const sorts = (column: GridColumn<Row>) => props.sortable && column.value !== undefined
/** Numbers begin with the largest, words with the first; a second time turns it round. */
function sort(column: GridColumn<Row>) {
  if (!sorts(column)) return
  const { name, words = false } = column
  const next = { name, up: now.value?.name === name ? !now.value.up : words }
  if (props.order) emit('order', next)
  else own.value = next
}
const sortOf = (column: GridColumn<Row>) =>
  !sorts(column)
    ? undefined
    : now.value?.name !== column.name
      ? 'none'
      : now.value.up
        ? 'ascending'
        : 'descending'
function step(by: number) {
  const at = shown.value.findIndex((row) => props.keyOf(row) === props.selected)
  const to = Math.min(Math.max(at + by, 0), shown.value.length - 1)
  const row = shown.value[to]
  if (!row) return
  emit('select', row)
  show(to)
}
/** Scroll as little as brings a row into view. */
function show(to: number) {
  if (!body.value || to < 0) return
  const top = to * props.rowHeight
  const room = body.value.clientHeight - 2 * props.rowHeight
  if (top < body.value.scrollTop) body.value.scrollTop = top
  else if (top > body.value.scrollTop + room) body.value.scrollTop = top - room
}
watch(
  () => props.selected,
  (key) => void nextTick(() => show(shown.value.findIndex((row) => props.keyOf(row) === key))),
)
const here = (row: Row) => props.keyOf(row) === props.selected
const sideOf = (column: GridColumn<Row>) =>
  `${column.words ? 'words' : 'number'} ${column.name}${column.frozen ? ' frozen' : ''}`
const widthOf = ({ name, width }: GridColumn<Row>) => {
  const px = widths.value[name] ?? width
  return px ? { width: `${px}px`, minWidth: `${px}px`, maxWidth: `${px}px` } : undefined
}
const said = (column: GridColumn<Row>, row: Row) =>
  column.text ? column.text(row) : (column.value?.(row) ?? '–')
</script>

<template>
  <div class="grid">
    <div
      ref="body"
      class="body"
      tabindex="0"
      :aria-label="label"
      role="group"
      @keydown.down.prevent="step(1)"
      @keydown.up.prevent="step(-1)"
      @keydown.page-down.prevent="step(20)"
      @keydown.page-up.prevent="step(-20)"
      @keydown.home.prevent="step(-Infinity)"
      @keydown.end.prevent="step(Infinity)"
    >
      <table :aria-rowcount="shown.length + 1">
        <thead>
          <tr>
            <th
              v-for="each in columns"
              :key="each.name"
              scope="col"
              :data-column="each.name"
              :class="[sideOf(each), { sorts: sorts(each) }]"
              :style="widthOf(each)"
              :aria-sort="sortOf(each)"
              :tabindex="sorts(each) ? 0 : undefined"
              @click="sort(each)"
              @keydown.enter="sort(each)"
              @keydown.alt.left.prevent.stop="widen(each.name, -16)"
              @keydown.alt.right.prevent.stop="widen(each.name, 16)"
            >
              <slot :name="`head-${each.name}`"
                ><span v-tip="each.help">{{ each.title }}</span></slot
              ><i v-if="now?.name === each.name" aria-hidden="true">{{ now.up ? ' ↑' : ' ↓' }}</i>
              <b class="edge" aria-hidden="true" @click.stop @pointerdown.stop="drag($event, each.name)"></b>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-if="view.above" class="room" :style="{ height: `${view.above}px` }"></tr>
          <tr
            v-for="row in view.rows"
            :key="keyOf(row)"
            :aria-selected="here(row)"
            :class="[rowClass(row), { here: here(row) }]"
            :style="{ height: `${rowHeight}px` }"
            @click="emit('select', row)"
            @dblclick="emit('open', row)"
          >
            <td v-for="each in columns" :key="each.name" :class="sideOf(each)" :style="widthOf(each)">
              <slot :name="`cell-${each.name}`" :row="row">
                <span v-tip="each.tip?.(row)" :class="each.className?.(row)">{{ said(each, row) }}</span>
              </slot>
            </td>
          </tr>
          <tr v-if="view.below" class="room" :style="{ height: `${view.below}px` }"></tr>
          <tr v-if="!shown.length && empty" class="room">
            <td :colspan="columns.length" class="words second">{{ empty }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <slot />
  </div>
</template>

<style scoped>
.grid {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.body {
  flex: 0 1 auto;
  min-height: 0;
  overflow: auto;
}
table {
  width: 100%;
  border-collapse: separate;
  border-spacing: 0;
}
th {
  position: sticky;
  top: 0;
  z-index: 2;
  padding: 4px 8px;
  background: var(--panel);
  border-bottom: 1px solid var(--hairline);
  font-weight: 400;
  font-family: inherit;
  color: var(--ink-2);
  white-space: nowrap;
  text-align: right;
  vertical-align: bottom;
  overflow: hidden;
  text-overflow: ellipsis;
}
.sorts {
  cursor: pointer;
}
i {
  font-style: normal;
}
.edge {
  position: absolute;
  top: 0;
  right: 0;
  bottom: 0;
  width: 5px;
  cursor: col-resize;
}
.edge:hover {
  background: var(--hairline);
}
td {
  padding: 0 8px;
  border-bottom: 1px solid var(--hairline);
  text-align: right;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
th.words,
td.words {
  text-align: left;
}
tbody tr {
  cursor: pointer;
}
.room {
  cursor: default;
}
.frozen {
  position: sticky;
  left: 0;
  z-index: 1;
  background: var(--panel);
}
th.frozen {
  z-index: 3;
}
.here td {
  background: var(--selection);
}
</style>
