<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import { ref } from 'vue'
import { attempt, download } from '../../api/client'
import { useProject, type Choices } from '../../state/project'
import { useView } from '../../state/view'
import type { Plan } from './planText'

/** The table as a file, with or without parts in time, and the card that says what it is. */
const props = defineProps<{ plan: Plan; chain: NonNullable<Choices['chain']> }>()
const store = useProject()
const view = useView()
const FORMATS = {
  Parquet: 'application/vnd.apache.parquet',
  Arrow: 'application/vnd.apache.arrow.stream',
  CSV: 'text/csv',
  NPZ: 'application/x-npz',
}
const parted = ref(false)
const asked = () =>
  JSON.stringify({
    plan: props.plan,
    chain: props.chain,
    until: view.cutoff,
    shares: parted.value ? [0.7, 0.15, 0.15] : null,
  })
function takeCard() {
  const init = { method: 'POST', body: asked(), headers: { 'Content-Type': 'application/json' } }
  void attempt(() =>
    download(`/api/v1/datasets/${store.dataset?.id}/windows/card`, 'windows-card.json', init),
  )
}
function take(format: keyof typeof FORMATS) {
  const body = asked()
  const init = {
    method: 'POST',
    body,
    headers: { 'Content-Type': 'application/json', Accept: FORMATS[format] },
  }
  void attempt(() =>
    download(`/api/v1/datasets/${store.dataset?.id}/windows/table`, `windows.${format.toLowerCase()}`, init),
  )
}
</script>

<template>
  <label
    v-tip="'A column that says train, validation, test or gap; no part learns from what another is judged on'"
  >
    <Checkbox binary v-model="parted" /> with parts in time, 70 : 15 : 15
  </label>
  <div class="buttons">
    <button
      v-for="(_, format) in FORMATS"
      :key="format"
      class="button"
      :class="{ primary: format === 'Parquet' }"
      @click="take(format)"
    >
      {{ format === 'Parquet' ? 'Take table, Parquet' : format }}
    </button>
    <button class="button" v-tip="'What the table is: dataset, plan, chain, columns'" @click="takeCard">
      Card
    </button>
  </div>
</template>

<style scoped>
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
.buttons .button {
  padding: 0 8px;
}
</style>
