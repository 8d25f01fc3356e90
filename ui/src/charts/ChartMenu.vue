<script setup lang="ts">
import Menu from 'primevue/menu'
import { nextTick, ref, watch } from 'vue'
import { chartMenu } from './menu'

/** What a chart offers to take away, opened from its corner. */
const menu = ref<InstanceType<typeof Menu>>()
watch(
  chartMenu,
  async (now) => {
    await nextTick()
    if (now) menu.value?.show(now.event)
  },
  { immediate: true },
)
</script>

<template>
  <Menu ref="menu" :model="chartMenu?.items ?? []" popup aria-label="Chart" @hide="chartMenu = null" />
</template>
