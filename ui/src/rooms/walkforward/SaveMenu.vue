<script setup lang="ts">
import Menu from 'primevue/menu'
import { computed, ref } from 'vue'

/** What can be taken away of an experiment, as files. */
const props = defineProps<{ id: number }>()
const menu = ref<InstanceType<typeof Menu>>()
const FILES = [
  { label: 'Report, to read and print', name: 'report.html' },
  { label: 'Board as CSV', name: 'board.csv' },
  { label: 'Board as JSON', name: 'board.json' },
  { label: 'All forecasts as Parquet', name: 'forecasts.parquet' },
  { label: 'Experiment file, to run again', name: 'experiment.toml' },
]
const items = computed(() =>
  FILES.map((each) => ({ label: each.label, url: `/api/v1/experiments/${props.id}/${each.name}` })),
)
</script>

<template>
  <button class="button" aria-haspopup="menu" @click="menu?.toggle($event)">Save …</button>
  <Menu ref="menu" :model="items" popup aria-label="Save">
    <template #item="{ item, props: given }">
      <a v-bind="given.action" :href="item.url" download>{{ item.label }}</a>
    </template>
  </Menu>
</template>
