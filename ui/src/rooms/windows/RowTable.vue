<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, nextTick, onMounted, ref, shallowRef, watch } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { fixed } from '../../state/format'
import { useProject, type Choices } from '../../state/project'
import { useView } from '../../state/view'
import type { Plan } from './planText'

/** The table with only the rows in view in the page; arrow keys move the lit row. */
const props = defineProps<{
  total: number
  names: string[]
  targets: string[]
  plan: Plan
  chain: NonNullable<Choices['chain']>
  until: number
  lit: string | null
  found: number | null
}>()
const emit = defineEmits<{ row: [position: number | null]; column: [name: string | null] }>()
const store = useProject()
const view = useView()
const host = ref<HTMLDivElement>()
const selected = ref(-1)
const PAGE = 200
const pages = shallowRef(new Map<number, Shapes['WindowsView']>())
const asked = new Set<number>()
let generation = 0

const key = computed(() =>
  JSON.stringify([
    store.dataset?.id,
    view.series,
    props.plan,
    props.chain,
    props.chain.length ? props.until : null,
  ]),
)
watch(key, () => {
  generation += 1
  pages.value = new Map()
  asked.clear()
})

const virtual = useVirtualizer(
  computed(() => ({
    count: props.total,
    getScrollElement: () => host.value ?? null,
    estimateSize: () => 22,
    overscan: 12,
  })),
)
const items = computed(() => virtual.value.getVirtualItems())

async function need(page: number) {
  if (!store.dataset || asked.has(page)) return
  asked.add(page)
  const mine = generation
  const params = { path: { dataset_id: store.dataset.id } }
  const body = {
    plan: props.plan,
    chain: props.chain,
    until: props.until,
    series: view.series,
    offset: page * PAGE,
    limit: PAGE,
    find: null,
  }
  const answer = await attempt(() =>
    unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows', { params, body })),
  )
  if (mine !== generation) return
  if (answer) pages.value = new Map(pages.value).set(page, answer)
  else asked.delete(page)
}
watch(
  [items, key],
  () =>
    [...new Set(items.value.map((item) => Math.floor(item.index / PAGE)))].forEach((page) => void need(page)),
  { immediate: true },
)

const rowOf = (index: number) => {
  const page = pages.value.get(Math.floor(index / PAGE))
  const at = index % PAGE
  return page ? { cells: page.rows[at] ?? [], time: page.times[at], position: page.positions[at] } : null
}
const shown = computed(() => props.names.length + props.targets.length)

function select(index: number, scroll = true) {
  selected.value = Math.min(Math.max(index, 0), props.total - 1)
  if (scroll) virtual.value.scrollToIndex(selected.value, { align: 'auto' })
}
watch(
  () => rowOf(selected.value)?.position,
  (position) => emit('row', position ?? null),
)
async function goTo(found: number | null) {
  if (found === null || !props.total) return
  selected.value = found
  await nextTick()
  virtual.value.scrollToIndex(found, { align: 'center' })
}
watch(
  () => [props.found, props.total],
  () => void goTo(props.found),
)
onMounted(() => requestAnimationFrame(() => void goTo(props.found)))
</script>

<template>
  <div
    ref="host"
    class="table panel"
    tabindex="0"
    role="grid"
    :aria-rowcount="total"
    aria-label="Window table"
    @keydown.down.prevent="select(selected + 1)"
    @keydown.up.prevent="select(selected - 1)"
    @keydown.page-down.prevent="select(selected + 20)"
    @keydown.page-up.prevent="select(selected - 20)"
    @keydown.home.prevent="select(0)"
    @keydown.end.prevent="select(total - 1)"
  >
    <div class="head" role="row" :style="{ width: 150 + shown * 92 + 'px' }">
      <span class="origin">origin</span>
      <span
        v-for="name in names"
        :key="name"
        :class="{ lit: name === lit }"
        :title="name"
        @mouseenter="emit('column', name)"
        @mouseleave="emit('column', null)"
        >{{ name }}</span
      >
      <span v-for="(name, i) in targets" :key="name" class="goal" :class="{ first: i === 0 }">{{
        name
      }}</span>
    </div>
    <div
      class="body number"
      :style="{ height: virtual.getTotalSize() + 'px', width: 150 + shown * 92 + 'px' }"
    >
      <div
        v-for="item in items"
        :key="item.index"
        role="row"
        :aria-rowindex="item.index + 1"
        class="row"
        :class="{ here: item.index === selected }"
        :style="{ transform: `translateY(${item.start}px)` }"
        @mouseenter="selected = item.index"
        @click="selected = item.index"
      >
        <template v-if="rowOf(item.index)">
          <span class="origin">{{ store.axis?.input(rowOf(item.index)!.time ?? 0) }}</span>
          <span
            v-for="(cell, i) in rowOf(item.index)!.cells"
            :key="i"
            :class="{ goal: i >= names.length, first: i === names.length }"
            >{{ fixed(cell, 3) }}</span
          >
        </template>
        <span v-else class="origin second">…</span>
      </div>
    </div>
  </div>
</template>

<style scoped>
.table {
  flex: 1;
  overflow: auto;
  position: relative;
}
.head {
  position: sticky;
  top: 0;
  z-index: 3;
  display: flex;
  background: var(--panel);
  border-bottom: 1px solid var(--hairline);
  color: var(--ink-2);
  height: 30px;
  align-items: center;
}
.head span,
.row span {
  flex: 0 0 92px;
  text-align: right;
  padding-right: 10px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.head .origin,
.row .origin {
  flex: 0 0 150px;
  text-align: left;
  padding-left: 10px;
  position: sticky;
  left: 0;
  z-index: 2;
  background: var(--panel);
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
  display: flex;
  align-items: center;
  font-size: 12px;
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
.lit {
  color: var(--ink);
  text-decoration: underline;
}
</style>
