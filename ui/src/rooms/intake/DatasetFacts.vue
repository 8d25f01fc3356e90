<script setup lang="ts">
import { computed } from 'vue'
import { count } from '../../state/format'
import { useProject } from '../../state/project'
import FactList from '../../widgets/FactList.vue'

/** What the version in use is: its hash, its size, its step, and the roles of its columns. */
const store = useProject()
const told = computed(() => {
  const of = store.dataset
  if (!of) return []
  return [
    { name: 'version', value: of.version },
    { name: 'hash', value: of.hash.slice(0, 12), hint: of.hash },
    { name: 'rows read', value: count((of.account as { rows?: number }).rows) },
    { name: 'series × steps', value: `${count(of.series.length)} × ${count(store.axis?.end)}` },
    { name: 'step', value: of.grid.step },
    { name: 'zone', value: of.grid.zone },
    ...of.columns.map((each) => ({
      name: String(each.role).replace('_', ' '),
      value: String(each.name),
      words: true,
    })),
  ]
})
</script>

<template>
  <template v-if="store.dataset">
    <h1>{{ store.dataset.name }}</h1>
    <FactList :facts="told" />
  </template>
</template>
