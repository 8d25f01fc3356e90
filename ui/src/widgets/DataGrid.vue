<script setup lang="ts" generic="Row extends object">
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { computed, ref } from 'vue'
import { sorted, type GridColumn, type GridSort } from './grid'

/** A table: sorted by its heads, its columns drawn wider, rows chosen by arrows, drawn as they are scrolled. */
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
const DRAWN = 80
const own = ref<GridSort | null>(null)
const now = computed(() => props.order ?? own.value)
const shown = computed(() => {
  if (props.order || !own.value) return props.rows
  const column = props.columns.find((each) => each.name === own.value?.name)
  return sorted(props.rows, column, own.value.up)
})
const table = ref<{
  $el: HTMLElement
  getVirtualScrollerRef: () => { scrollInView?: (i: number, to: string) => void } | null
}>()

/** Numbers begin with the largest, words with the first; a second time turns it round. */
function sort(event: { sortField?: unknown }) {
  const name = String(event.sortField)
  const words = props.columns.find((each) => each.name === name)?.words ?? false
  const next = { name, up: now.value?.name === name ? !now.value.up : words }
  if (props.order) emit('order', next)
  else own.value = next
}
function step(by: number) {
  const at = shown.value.findIndex((row) => props.keyOf(row) === props.selected)
  const to = Math.min(Math.max(at + by, 0), shown.value.length - 1)
  const row = shown.value[to]
  if (!row) return
  emit('select', row)
  const body = table.value?.$el.querySelector<HTMLElement>('.p-datatable-table-container, .p-virtualscroller')
  if (!body) return
  const top = to * props.rowHeight
  const room = body.clientHeight - 2 * props.rowHeight
  if (top < body.scrollTop) body.scrollTop = top
  else if (top > body.scrollTop + room) body.scrollTop = top - room
}
const classOf = (row: Row) => `${props.keyOf(row) === props.selected ? 'here ' : ''}${props.rowClass(row)}`
const chosen = (index: number) => {
  const row = shown.value[index]
  return row ? props.keyOf(row) === props.selected : false
}
</script>

<template>
  <div
    class="grid"
    tabindex="0"
    :aria-label="label"
    role="group"
    @keydown.down.prevent="step(1)"
    @keydown.up.prevent="step(-1)"
    @keydown.page-down.prevent="step(20)"
    @keydown.page-up.prevent="step(-20)"
  >
    <DataTable
      ref="table"
      :value="shown"
      :data-key="undefined"
      lazy
      scrollable
      scroll-height="flex"
      resizable-columns
      column-resize-mode="expand"
      :sort-field="now?.name"
      :sort-order="now ? (now.up ? 1 : -1) : 0"
      :row-class="(row) => classOf(row as Row)"
      :virtual-scroller-options="rows.length > DRAWN ? { itemSize: rowHeight } : undefined"
      :pt="{
        bodyRow: ({ context }: { context: { index: number } }) => ({
          'aria-selected': chosen(context.index),
        }),
        tableContainer: { tabindex: -1 },
      }"
      @sort="sort"
      @row-click="emit('select', $event.data as Row)"
      @row-dblclick="emit('open', $event.data as Row)"
    >
      <Column
        v-for="each in columns"
        :key="each.name"
        :field="each.name"
        :sortable="sortable && each.value !== undefined"
        :frozen="each.frozen"
        :style="each.width ? { width: `${each.width}px`, minWidth: `${each.width}px` } : undefined"
        :header-class="each.words ? `words ${each.name}` : each.name"
        :body-class="each.words ? `words ${each.name}` : `number ${each.name}`"
        :pt="{ headerCell: { title: each.help } }"
      >
        <template #header>
          <slot :name="`head-${each.name}`">{{ each.title }}</slot>
        </template>
        <template #body="{ data }">
          <slot :name="`cell-${each.name}`" :row="data as Row">
            <span :class="each.className?.(data as Row)" :title="each.tip?.(data as Row)">{{
              each.text ? each.text(data as Row) : (each.value?.(data as Row) ?? '–')
            }}</span>
          </slot>
        </template>
      </Column>
      <template #empty>{{ empty }}</template>
    </DataTable>
    <slot />
  </div>
</template>

<style scoped>
.grid {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
</style>
