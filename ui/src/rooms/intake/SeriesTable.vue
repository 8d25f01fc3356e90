<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import type { Draft, Shapes } from '../../api/client'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import SparkLine from '../../widgets/SparkLine.vue'
import { count, number } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'

/** Every series of the dataset: search, sort, select; leave out or sum up what is selected. */
const emit = defineEmits<{ edit: [edit: Draft<Shapes['EditBody']['edit']>] }>()
const store = useProject()
const view = useView()
interface Row {
  series: Shapes['SeriesView']
  index: number
}
const time = (name: 'first' | 'last', title: string): GridColumn<Row> => ({
  name,
  title,
  value: ({ series }) => series[name],
  text: ({ series }) => store.axis?.input(series[name]) ?? '',
})
const size = (
  name: 'length' | 'missing' | 'filled' | 'lowest' | 'highest' | 'last_value',
  title: string,
  text: (value: number | null) => string = count,
): GridColumn<Row> => ({
  name,
  title,
  value: ({ series }) => series[name],
  text: ({ series }) => text(series[name]),
})
const COLUMNS: GridColumn<Row>[] = [
  { name: 'chosen', title: '', width: 34, words: true },
  {
    name: 'key',
    title: 'series',
    value: ({ series }) => series.key,
    words: true,
    tip: ({ series }) => series.key,
  },
  size('length', 'points'),
  size('missing', 'missing'),
  size('filled', 'filled'),
  size('lowest', 'lowest', number),
  size('highest', 'highest', number),
  size('last_value', 'last value', number),
  time('first', 'from'),
  time('last', 'to'),
  { name: 'shape', title: '', width: 76 },
]
const search = ref('')
const chosen = ref(new Set<string>())
const JOINT = ' / '

const rows = computed<Row[]>(() => {
  const words = search.value.toLowerCase().split(/\s+/).filter(Boolean)
  const all = (store.dataset?.series ?? []).map((series, index) => ({ series, index }))
  return all.filter(({ series }) => words.every((word) => series.key.toLowerCase().includes(word)))
})
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

function toggle(key: string) {
  const next = new Set(chosen.value)
  if (!next.delete(key)) next.add(key)
  chosen.value = next
}
function exclude() {
  emit('edit', { exclude: [...chosen.value] })
  chosen.value = new Set()
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
    <DataGrid
      class="body"
      label="Series in the dataset"
      :rows="rows"
      :columns="COLUMNS"
      :key-of="(row) => row.index"
      :selected="view.series"
      empty="No series has this in its name."
      @select="view.series = $event.index"
    >
      <template #cell-chosen="{ row }">
        <Checkbox
          binary
          :model-value="chosen.has(row.series.key)"
          :aria-label="`Select ${row.series.key}`"
          @click.stop
          @update:model-value="toggle(row.series.key)"
        />
      </template>
      <template #cell-shape="{ row }"><SparkLine :values="row.series.spark" /></template>
    </DataGrid>
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
.body {
  flex: 1;
}
</style>
