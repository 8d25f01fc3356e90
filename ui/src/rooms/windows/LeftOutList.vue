<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, ref, shallowRef, watch } from 'vue'
import { client, type Shapes, unwrap } from '../../api/client'
import { askOnce } from '../../state/answers'
import { count } from '../../state/format'
import { useProject } from '../../state/project'
import type { Plan } from './planText'

/** Origins that give no row, with the reason of each; pointing at one shows it in the drawing. */
const props = defineProps<{
  plan: Plan
  chain: { [name: string]: unknown }[]
  until: number
  series: number | null
  reason: string
}>()
const emit = defineEmits<{ row: [position: number, series: number]; close: [] }>()
const store = useProject()
const host = ref<HTMLDivElement>()
const selected = ref(0)
const PAGE = 500
const pages = shallowRef(new Map<number, Shapes['LeftOutView']>())
const first = computed(() => pages.value.get(0))
const asked = new Set<string>()

async function need(page: number) {
  if (!store.dataset) return
  const key = JSON.stringify([props, page])
  if (asked.has(key)) return
  asked.add(key)
  const { plan, chain, until, series, reason } = props
  const body = { plan, chain, until, series, reason, offset: page * PAGE, limit: PAGE }
  const all = { params: { path: { dataset_id: store.dataset.id } }, body }
  const found = await askOnce(
    ['left out', all],
    (signal) =>
      unwrap(
        client.POST('/api/v1/datasets/{dataset_id}/windows/left-out', { ...all, signal } as never),
      ) as Promise<Shapes['LeftOutView']>,
  ).catch(() => undefined)
  if (found && key === JSON.stringify([props, page])) pages.value = new Map(pages.value).set(page, found)
}
watch(
  () => JSON.stringify(props),
  () => {
    pages.value = new Map()
    asked.clear()
    selected.value = 0
    void need(0)
  },
  { immediate: true },
)
const virtual = useVirtualizer(
  computed(() => ({
    count: first.value?.total ?? 0,
    getScrollElement: () => host.value ?? null,
    estimateSize: () => 22,
    overscan: 12,
  })),
)
const items = computed(() => virtual.value.getVirtualItems())
watch(items, () =>
  [...new Set(items.value.map((item) => Math.floor(item.index / PAGE)))].forEach((page) => void need(page)),
)
function rowOf(index: number) {
  const page = pages.value.get(Math.floor(index / PAGE))
  const at = index % PAGE
  const position = page?.positions[at]
  if (!page || position === undefined) return null
  return { position, time: page.times[at] ?? 0, series: page.series[at] ?? 0, why: page.why[at] ?? '' }
}
function select(index: number) {
  selected.value = Math.min(Math.max(index, 0), (first.value?.total ?? 1) - 1)
  virtual.value.scrollToIndex(selected.value, { align: 'auto' })
}
watch([selected, pages], () => {
  const row = rowOf(selected.value)
  if (row) emit('row', row.position, row.series)
})
const bySeries = computed(() => {
  const code = first.value?.reasons.indexOf(props.reason) ?? -1
  const counts = first.value?.counts[code] ?? []
  return counts.map((n, i) => ({ key: first.value?.keys[i] ?? '', n })).filter((each) => each.n)
})
</script>

<template>
  <div class="panel lost">
    <header>
      <h2>Left out: {{ reason }}</h2>
      <span class="second number">{{ count(first?.total) }} origins</span>
      <span
        v-if="bySeries.length > 1"
        class="second by"
        v-tip="bySeries.map((e) => `${e.key} ${e.n}`).join(', ')"
      >
        {{ bySeries.map((each) => `${each.key} ${count(each.n)}`).join(' · ') }}
      </span>
      <button class="button quiet" @click="emit('close')">Back to the rows (Esc)</button>
    </header>
    <div
      ref="host"
      class="list number"
      tabindex="0"
      role="listbox"
      aria-label="Rows left out"
      @keydown.down.prevent="select(selected + 1)"
      @keydown.up.prevent="select(selected - 1)"
      @keydown.page-down.prevent="select(selected + 20)"
      @keydown.page-up.prevent="select(selected - 20)"
      @keydown.esc.stop="emit('close')"
    >
      <div :style="{ height: virtual.getTotalSize() + 'px', position: 'relative' }">
        <div
          v-for="item in items"
          :key="item.index"
          role="option"
          :aria-selected="item.index === selected"
          class="row"
          :class="{ here: item.index === selected }"
          :style="{ transform: `translateY(${item.start}px)` }"
          @mouseenter="selected = item.index"
        >
          <template v-if="rowOf(item.index)">
            <span>{{ store.axis?.input(rowOf(item.index)!.time) }}</span>
            <span v-if="series === null">{{ first?.keys[rowOf(item.index)!.series] }}</span>
            <span class="why">{{ rowOf(item.index)!.why }}</span>
          </template>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.lost {
  flex: 1;
  display: flex;
  flex-direction: column;
  min-height: 0;
}
header {
  display: flex;
  align-items: baseline;
  gap: 12px;
  padding: 6px 12px;
  border-bottom: 1px solid var(--hairline);
}
header .button {
  margin-left: auto;
}
.by {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-size: 12px;
}
.list {
  flex: 1;
  overflow: auto;
}
.row {
  position: absolute;
  left: 0;
  right: 0;
  height: 22px;
  display: grid;
  grid-template-columns: 150px 150px 1fr;
  align-items: center;
  padding-left: 10px;
  font-size: 12px;
}
.row .why:nth-child(2) {
  grid-column: 2 / 4;
}
.why {
  font-family: var(--words, inherit);
  color: var(--ink-2);
}
.here {
  background: var(--selection);
}
</style>
