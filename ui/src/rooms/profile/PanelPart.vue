<script setup lang="ts">
import ProgressBar from 'primevue/progressbar'
import ChoiceField from '../../widgets/ChoiceField.vue'
import InputText from 'primevue/inputtext'
import { computed, onBeforeUnmount, watch } from 'vue'
import SparkLine from '../../widgets/SparkLine.vue'
import { count } from '../../state/format'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import DataGrid from '../../widgets/DataGrid.vue'
import type { GridColumn } from '../../widgets/grid'
import { useFeatures, type Row } from './features'

/** One row per series: sort by a column, filter by conditions, group by a word. */
const store = useProject()
const view = useView()
const features = useFeatures()
features.looked = true
onBeforeUnmount(() => (features.looked = false))
watch(() => features.data, features.begin, { immediate: true })
const grouping = computed(() => features.byName.get(features.group))
const placeOf = computed(() => new Map(features.rows.map((row, i) => [row.position, i])))
const head = (row: Row) => {
  if (!grouping.value) return ''
  const before = features.rows[(placeOf.value.get(row.position) ?? 0) - 1]
  const text = grouping.value.text(row)
  return !before || grouping.value.text(before) !== text ? text : ''
}
const columns = computed<GridColumn<Row>[]>(() => [
  { name: 'key', title: 'series', value: (row) => row.key, width: 190, words: true, frozen: true },
  { name: 'shape', title: '', width: 70 },
  ...features.columns,
])
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
    <ProgressBar
      class="progress"
      :show-value="false"
      :value="(100 * (features.data?.done ?? 0)) / Math.max(features.data?.of ?? 1, 1)"
      aria-label="Series done"
    />
    <span class="number">{{ count(features.data?.done) }} of {{ count(features.data?.of) }} series</span>
  </p>
  <p v-else-if="features.data?.reason" class="said worse">{{ features.data.reason }}</p>
  <p v-else-if="features.state === 'empty'" class="said second">
    {{ features.data ? 'Waiting for the first series …' : 'Reading what is computed …' }}
  </p>
  <p v-else-if="features.stale" class="said worse">Out of date: computed as of {{ asOf }}, not the cutoff.</p>
  <DataGrid
    class="panel table"
    :rows="features.rows"
    :columns="columns"
    :key-of="(row) => row.position"
    :selected="view.series"
    :order="features.sort"
    label="Features of every series"
    @order="features.sort = $event"
    @select="view.series = $event.position"
    @open="view.part = 'level'"
  >
    <template #cell-key="{ row }">
      <b v-if="head(row)">{{ head(row) }}</b> <span v-tip="row.verdict">{{ row.key }}</span>
    </template>
    <template #cell-shape="{ row }"><SparkLine :values="row.spark" /></template>
  </DataGrid>
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
.progress {
  width: 160px;
}
.table {
  flex: 1;
}
</style>
