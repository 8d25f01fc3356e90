<script setup lang="ts">
import { computed } from 'vue'
import { problem } from '../api/client'
import { useProject } from '../state/project'
import { useView } from '../state/view'

const store = useProject()
const view = useView()
const time = computed(() =>
  view.hover !== null && store.axis ? store.axis.text(store.axis.time(store.axis.position(view.hover))) : '',
)
const rows = computed(() => Object.values(view.readings).flat().slice(0, 8))
</script>

<template>
  <footer role="status" aria-live="polite">
    <template v-if="problem">
      <b class="worse">{{ problem }}</b>
      <button class="button quiet" @click="problem = null">close (Esc)</button>
    </template>
    <template v-else>
      <span v-if="time" class="number">{{ time }}</span>
      <span v-for="(row, i) in rows" :key="i" class="row">
        <span class="second">{{ row.label }}</span>
        <span class="number" :style="{ color: row.color }">{{ row.value }}</span>
      </span>
      <span v-if="!time && !rows.length" class="second">Point at a chart to read it. ? shows the keys.</span>
    </template>
  </footer>
</template>

<style scoped>
footer {
  grid-area: read;
  display: flex;
  align-items: center;
  gap: 20px;
  padding: 0 16px 0 80px;
  background: var(--panel);
  border-top: 1px solid var(--hairline);
  font-size: 12px;
  white-space: nowrap;
  overflow: hidden;
}
.row {
  display: flex;
  gap: 6px;
}
footer b {
  overflow: hidden;
  text-overflow: ellipsis;
  font-weight: 500;
}
.button {
  height: 20px;
}
</style>
