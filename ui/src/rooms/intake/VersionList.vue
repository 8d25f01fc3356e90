<script setup lang="ts">
import { computed, ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { count, counted } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'

/** Versions of the data: stand on one, branch from it, see how it differs from the present one. */
const store = useProject()
const view = useView()
const compared = ref<{ id: number; found: Shapes['ComparisonView'] } | null>(null)

async function compare(other: number) {
  const here = store.dataset?.id
  if (here === undefined || compared.value?.id === other) return (compared.value = null)
  const params = { path: { dataset_id: here, other_id: other } }
  const asked = client.GET('/api/v1/datasets/{dataset_id}/compare/{other_id}', { params })
  const found = await attempt(() => unwrap(asked))
  return (compared.value = found ? { id: other, found } : null)
}
function show(change: Shapes['SeriesChangeView']) {
  const index = store.dataset?.series.findIndex((each) => each.key === change.key) ?? -1
  if (index < 0 || !store.axis) return
  view.series = index
  const [from, to] = [store.axis.time(change.first), store.axis.time(change.last)]
  const room = Math.max((to - from) * 0.3, (store.axis.grid.seconds ?? 86400) * 24)
  view.setSpan(from - room, to + room)
}
const versions = computed(() => store.project?.datasets ?? [])
type Version = (typeof versions.value)[number]
const worded = ({ change, changed }: Shapes['SeriesChangeView']) =>
  change === 'values'
    ? `${counted(changed, 'value')} changed`
    : change === 'marks'
      ? `${counted(changed, 'point')} marked otherwise`
      : change === 'new'
        ? 'is new here'
        : 'is gone here'
const madeFrom = (each: Version) => versions.value.find((one) => one.id === each.parent_id)?.version
const COLUMNS: GridColumn<Version>[] = [
  {
    name: 'version',
    title: 'version',
    value: (each) => each.version,
    text: (each) => (each.parent_id ? `${each.version} ← ${madeFrom(each)}` : String(each.version)),
  },
  { name: 'done', title: 'what was done', value: (each) => `${each.name}: ${each.done}`, words: true },
  { name: 'series', title: 'series', value: (each) => each.series, text: (each) => count(each.series) },
  { name: 'points', title: 'points', value: (each) => each.points, text: (each) => count(each.points) },
  { name: 'created', title: 'made', value: (each) => each.created, text: (each) => stamp(each.created) },
  { name: 'hash', title: 'hash', text: (each) => each.hash.slice(0, 8), tip: (each) => each.hash },
  { name: 'acts', title: '', width: 200 },
]
const stamp = (iso: string) =>
  new Date(iso).toLocaleString(undefined, { dateStyle: 'short', timeStyle: 'short' })
</script>

<template>
  <DataGrid
    class="versions panel"
    label="Versions"
    :rows="versions"
    :columns="COLUMNS"
    :key-of="(each) => each.id"
    :selected="store.dataset?.id ?? null"
  >
    <template #cell-acts="{ row }">
      <template v-if="row.id !== store.dataset?.id">
        <button class="button quiet" @click.stop="attempt(() => store.choose({ dataset_id: row.id }))">
          Stand on it
        </button>
        <button class="button quiet" :aria-pressed="compared?.id === row.id" @click.stop="compare(row.id)">
          Compare
        </button>
      </template>
      <span v-else class="second">in use</span>
    </template>
    <section v-if="compared" class="compared" aria-label="What differs">
      <p v-for="sentence in compared.found.sentences" :key="sentence">{{ sentence }}</p>
      <p v-for="change in compared.found.series.slice(0, 50)" :key="change.key">
        <button class="link" @click="show(change)">{{ change.key }}</button> {{ worded(change) }}
      </p>
      <p v-if="!compared.found.series.length && !compared.found.sentences.length">The same content.</p>
    </section>
  </DataGrid>
</template>

<style scoped>
.versions {
  flex: 1;
}
.compared {
  border-top: 1px solid var(--hairline);
  padding: 8px 12px;
  max-height: 40%;
  overflow: auto;
}
p {
  margin: 0 0 4px;
}
</style>
