<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'
import { count } from '../state/format'
import { spark } from '../charts/spark'
import { useProject } from '../state/project'
import { useView } from '../state/view'

const store = useProject()
const view = useView()
const open = ref(false)
const search = ref('')
const box = ref<HTMLInputElement>()
const current = computed(() => store.dataset?.series[view.series])
const found = computed(() =>
  (store.dataset?.series ?? [])
    .map((each, index) => ({ each, index }))
    .filter(({ each }) => each.key.toLowerCase().includes(search.value.toLowerCase()))
    .slice(0, 200),
)

async function show() {
  open.value = true
  search.value = ''
  await nextTick()
  box.value?.focus()
}

function pick(index: number) {
  view.series = index
  open.value = false
}
</script>

<template>
  <div class="picker">
    <button class="name" :title="`Series ${view.key}; , and . step`" @click="open ? (open = false) : show()">
      <b>{{ view.key }}</b>
      <span class="number second">{{ view.series + 1 }} / {{ count(store.dataset?.series.length) }}</span>
      <svg v-if="current" viewBox="0 0 60 16" width="60" height="16" aria-hidden="true">
        <path :d="spark(current.spark)" />
      </svg>
    </button>
    <button class="button quiet" aria-label="Previous series" @click="view.moveSeries(-1)">‹</button>
    <button class="button quiet" aria-label="Next series" @click="view.moveSeries(1)">›</button>
    <div v-if="open" class="list panel" @keydown.esc.stop="open = false">
      <input
        ref="box"
        v-model="search"
        class="field"
        placeholder="Search series"
        aria-label="Search series"
        @keydown.enter="found[0] && pick(found[0].index)"
      />
      <button
        v-for="{ each, index } in found"
        :key="index"
        class="row"
        :class="{ here: index === view.series }"
        @click="pick(index)"
      >
        <span>{{ each.key }}</span>
        <svg viewBox="0 0 60 16" width="60" height="16" aria-hidden="true">
          <path :d="spark(each.spark)" />
        </svg>
        <span class="number second">{{ count(each.length) }}</span>
      </button>
      <p v-if="!found.length" class="second">No series has this in its name.</p>
    </div>
  </div>
</template>

<style scoped>
.picker {
  position: relative;
  display: flex;
  align-items: center;
  border-left: 1px solid var(--hairline);
  padding-left: 12px;
}
.name {
  display: flex;
  gap: 8px;
  align-items: center;
  border: 0;
  background: none;
  cursor: pointer;
  padding: 4px 0;
}
.name b {
  max-width: 150px;
  overflow: hidden;
  text-overflow: ellipsis;
  font-weight: 600;
}
path {
  fill: none;
  stroke: var(--ink-2);
}
.list {
  position: absolute;
  z-index: 30;
  top: 34px;
  left: 8px;
  width: 320px;
  max-height: 420px;
  overflow: auto;
  padding: 8px;
  border-color: var(--ink-3);
}
.list .field {
  width: 100%;
  margin-bottom: 4px;
}
.row {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 60px 64px;
  gap: 8px;
  width: 100%;
  padding: 4px;
  border: 0;
  background: none;
  text-align: left;
  cursor: pointer;
}
.row span:last-child {
  text-align: right;
}
.row:hover,
.here {
  background: var(--selection);
}
</style>
