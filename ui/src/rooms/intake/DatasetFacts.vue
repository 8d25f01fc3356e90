<script setup lang="ts">
import { computed } from 'vue'
import { count } from '../../state/format'
import { useProject } from '../../state/project'

/** What the version in use is: its hash, its size, its step, and the roles of its columns. */
const store = useProject()
const rows = computed(() => (store.dataset?.account as { rows?: number } | undefined)?.rows)
</script>

<template>
  <template v-if="store.dataset">
    <h1>{{ store.dataset.name }}</h1>
    <table class="facts">
      <tbody>
        <tr>
          <td>version</td>
          <td class="number">{{ store.dataset.version }}</td>
        </tr>
        <tr>
          <td>hash</td>
          <td class="number" :title="store.dataset.hash">{{ store.dataset.hash.slice(0, 12) }}</td>
        </tr>
        <tr>
          <td>rows read</td>
          <td class="number">{{ count(rows) }}</td>
        </tr>
        <tr>
          <td>series × steps</td>
          <td class="number">{{ count(store.dataset.series.length) }} × {{ count(store.axis?.end) }}</td>
        </tr>
        <tr>
          <td>step, zone</td>
          <td class="number">{{ store.dataset.grid.step }}, {{ store.dataset.grid.zone }}</td>
        </tr>
        <tr v-for="column in store.dataset.columns" :key="String(column.name)">
          <td>{{ String(column.role).replace('_', ' ') }}</td>
          <td>{{ column.name }}</td>
        </tr>
      </tbody>
    </table>
  </template>
</template>
