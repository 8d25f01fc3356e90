<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { useVirtualizer } from '@tanstack/vue-virtual'
import type { Draft, Shapes } from '../../api/client'
import SparkLine from '../../widgets/SparkLine.vue'
import { count, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'

/** Every series of the dataset: search, sort, select; leave out or sum up what is selected. */
const emit = defineEmits<{ edit: [edit: Draft<Shapes['EditBody']['edit']>] }>()
const store = useProject()
const view = useView()
type Column = 'key' | 'length' | 'missing' | 'filled' | 'lowest' | 'highest' | 'first' | 'last' | 'last_value'
const COLUMNS: [Column, string][] = [
  ['key', 'series'],
  ['length', 'points'],
  ['missing', 'missing'],
  ['filled', 'filled'],
  ['lowest', 'lowest'],
  ['highest', 'highest'],
  ['last_value', 'last value'],
  ['first', 'from'],
  ['last', 'to'],
]
const search = ref('')
const order = ref<{ by: Column | null; down: boolean }>({ by: null, down: false })
const chosen = ref(new Set<string>())
const host = ref<HTMLDivElement>()
const JOINT = ' / '

const rows = computed(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  const all = (store.dataset?.series ?? []).map((series, index) => ({ series, index }))
  const found = all.filter(({ series }) => words.every((word) => series.key.toLowerCase().includes(word)))
  const { by, down } = order.value
  if (!by) return found
  const sign = down ? -1 : 1
  return found.sort((a, b) => {
    const [x, y] = [a.series[by], b.series[by]]
    if (typeof x === 'string' || typeof y === 'string') return sign * String(x).localeCompare(String(y))
    return sign * ((x ?? -Infinity) - (y ?? -Infinity))
  })
})
const virtual = useVirtualizer(
  computed(() => ({
    count: rows.value.length,
    getScrollElement: () => host.value ?? null,
    estimateSize: () => 26,
    overscan: 8,
  })),
)
const parts = computed(() => {
  const keys = store.dataset?.series.map((each) => each.key.split(JOINT).length) ?? []
  return keys.length ? Math.min(...keys) : 1
})

/** Static columns of names, by which series can be summed up. */
const groups = computed(() =>
  (store.dataset?.columns ?? [])
    .filter((each) => each.role === 'static' && (each.labels as string[] | undefined)?.length)
    .map((each) => String(each.name)),
)

function sort(by: Column) {
  order.value = { by, down: order.value.by === by ? !order.value.down : by !== 'key' }
}
function toggle(key: string) {
  const next = new Set(chosen.value)
  if (!next.delete(key)) next.add(key)
  chosen.value = next
}
function exclude() {
  emit('edit', { exclude: [...chosen.value] })
  chosen.value = new Set()
}
function move(event: KeyboardEvent) {
  const at = rows.value.findIndex((row) => row.index === view.series)
  const next = rows.value[at + (event.key === 'ArrowDown' ? 1 : -1)]
  if (!next) return
  event.preventDefault()
  view.series = next.index
  virtual.value.scrollToIndex(rows.value.indexOf(next))
}
</script>

<template>
  <div class="series panel">
    <div class="bar">
      <InputText v-model="search" class="field" placeholder="search series" aria-label="Search series" />
      <span class="second number">{{ count(rows.length) }} of {{ count(store.dataset?.series.length) }}</span>
      <span class="grow"></span>
      <template v-if="chosen.size">
        <span class="second">{{ chosen.size }} selected</span>
        <button class="button" @click="exclude">Leave out</button>
      </template>
      <template v-if="(store.dataset?.series.length ?? 0) > 1">
        <button class="button" @click="emit('edit', { coarser: { keep: [], aggregate: 'sum' } })">
          Sum of all
        </button>
        <button
          v-for="column in groups"
          :key="column"
          class="button"
          @click="emit('edit', { coarser: { by: column, aggregate: 'sum' } })"
        >
          Sum by {{ column }}
        </button>
        <button
          v-for="part in parts > 1 ? parts : 0"
          :key="part"
          class="button"
          @click="emit('edit', { coarser: { keep: [part - 1], aggregate: 'sum' } })"
        >
          Sum by part {{ part }}
        </button>
      </template>
    </div>
    <div class="head">
      <span></span>
      <button
        v-for="[name, words] in COLUMNS"
        :key="name"
        :aria-pressed="order.by === name"
        @click="sort(name)"
      >
        {{ words }}{{ order.by === name ? (order.down ? ' ↓' : ' ↑') : '' }}
      </button>
      <span></span>
    </div>
    <div
      ref="host"
      class="body"
      tabindex="0"
      role="listbox"
      aria-label="Series"
      @keydown.down="move"
      @keydown.up="move"
    >
      <div :style="{ height: `${virtual.getTotalSize()}px`, position: 'relative' }">
        <div
          v-for="item in virtual.getVirtualItems()"
          :key="String(item.key)"
          class="row"
          role="option"
          :aria-selected="rows[item.index]?.index === view.series"
          :class="{ here: rows[item.index]?.index === view.series }"
          :style="{ transform: `translateY(${item.start}px)` }"
          @click="view.series = rows[item.index]?.index ?? 0"
        >
          <template v-for="row in [rows[item.index]]" :key="row?.index">
            <template v-if="row">
              <Checkbox
                binary
                :model-value="chosen.has(row.series.key)"
                :aria-label="`Select ${row.series.key}`"
                @click.stop="toggle(row.series.key)"
              />
              <span class="key" :title="row.series.key">{{ row.series.key }}</span>
              <span class="number">{{ count(row.series.length) }}</span>
              <span class="number">{{ count(row.series.missing) }}</span>
              <span class="number">{{ count(row.series.filled) }}</span>
              <span class="number">{{ number(row.series.lowest) }}</span>
              <span class="number">{{ number(row.series.highest) }}</span>
              <span class="number">{{ number(row.series.last_value) }}</span>
              <span class="number">{{ store.axis?.input(row.series.first) }}</span>
              <span class="number">{{ store.axis?.input(row.series.last) }}</span>
              <SparkLine :values="row.series.spark" />
            </template>
          </template>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.series {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
.bar {
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 6px 12px;
}
.bar .field {
  width: 180px;
}
.grow {
  flex: 1;
}
.head,
.row {
  display: grid;
  grid-template-columns: 20px minmax(90px, 1.4fr) 58px 58px 50px 66px 66px 72px 124px 124px 64px;
  gap: 8px;
  align-items: center;
  padding: 0 12px;
}
.head {
  border-bottom: 1px solid var(--hairline);
  padding-bottom: 4px;
}
.head button {
  all: unset;
  cursor: pointer;
  color: var(--ink-2);
  font-size: 12px;
  text-align: right;
  white-space: nowrap;
}
.head button:focus-visible {
  outline: 2px solid var(--ink);
}
.head button:nth-child(2) {
  text-align: left;
}
.body {
  flex: 1;
  overflow: auto;
}
.row {
  position: absolute;
  left: 0;
  right: 0;
  height: 26px;
  cursor: pointer;
  font-size: 12px;
}
.row .number {
  text-align: right;
  white-space: nowrap;
}
.key {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-size: 13px;
}
.here {
  background: var(--selection);
}
svg {
  width: 60px;
  height: 16px;
}
path {
  fill: none;
  stroke: var(--ink-2);
}
</style>
