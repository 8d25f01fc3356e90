<script setup lang="ts">
import ChoiceField from './ChoiceField.vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useProject } from '../state/project'
import { useView } from '../state/view'
import { night, toggleTheme } from '../theme/theme'
import CutoffField from './CutoffField.vue'
import SeriesPicker from './SeriesPicker.vue'

const emit = defineEmits<{ palette: []; work: []; kept: [] }>()
const store = useProject()
const view = useView()
const route = useRoute()
const router = useRouter()

const progress = computed(() => {
  const running = store.running
  return {
    cells: running.reduce((sum, e) => sum + e.of, 0),
    done: running.reduce((sum, e) => sum + e.done, 0),
  }
})
const share = computed(() => (progress.value.cells ? progress.value.done / progress.value.cells : 0))

/** Zero stands for the list of all. */
function choose(id: number) {
  if (!id) void router.push('/?projects=1')
  else
    void router.push({
      name: String(route.name ?? 'intake') === 'home' ? 'intake' : String(route.name),
      params: { project: id },
    })
}
</script>

<template>
  <header class="top">
    <RouterLink to="/?projects=1" class="brand" v-tip="'All projects'">
      <svg viewBox="0 0 24 24" width="22" height="22" aria-hidden="true">
        <rect x="2" y="5" width="7" height="14" fill="var(--ink)" />
        <rect x="11" y="2" width="2" height="20" fill="var(--cutoff)" />
        <rect
          x="15.75"
          y="5.75"
          width="5.5"
          height="12.5"
          fill="none"
          stroke="var(--ink)"
          stroke-width="1.5"
        />
      </svg>
      Proteron
    </RouterLink>
    <ChoiceField
      v-if="store.project"
      class="project"
      label="Project"
      :model-value="store.project.id"
      @update:model-value="choose"
      :options="[
        ...store.list.map((each) => ({ value: each.id, label: each.name })),
        { value: 0, label: 'All projects …' },
      ]"
    />
    <button
      v-if="store.project"
      class="button quiet"
      aria-label="Everything kept"
      v-tip="'Everything kept here: rename, copy, delete, restore (k)'"
      @click="emit('kept')"
    >
      ⋯
    </button>
    <template v-if="store.dataset && store.axis">
      <SeriesPicker />
      <div class="cutoff">
        <i></i><span class="second">known up to</span>
        <CutoffField />
      </div>
      <span class="second zone"
        >{{ store.axis.grid.step.replace(/^1 /, '') }}, {{ store.axis.grid.zone }}</span
      >
      <button
        class="button quiet"
        :aria-pressed="view.flat"
        v-tip="'Original or flattened units (u)'"
        @click="view.flat = !view.flat"
      >
        {{ view.flat ? 'flat units' : 'original units' }}
      </button>
    </template>
    <span class="grow"></span>
    <span v-if="store.unkept" class="second keeping">keeping…</span>
    <span v-if="!store.connected" class="worse">no connection, trying again</span>
    <button v-if="progress.cells" class="button quiet ring" v-tip="'Running work'" @click="emit('work')">
      <svg viewBox="0 0 20 20" width="18" height="18" aria-hidden="true">
        <circle cx="10" cy="10" r="7.5" fill="none" stroke="var(--hairline)" stroke-width="3" />
        <circle
          cx="10"
          cy="10"
          r="7.5"
          fill="none"
          stroke="var(--ink)"
          stroke-width="3"
          :stroke-dasharray="`${share * 47.1} 48`"
          transform="rotate(-90 10 10)"
        />
      </svg>
      <span class="number">{{ progress.done }} of {{ progress.cells }} cells</span>
    </button>
    <button class="button quiet second number" v-tip="'Command palette'" @click="emit('palette')">
      Ctrl K
    </button>
    <button
      class="button quiet"
      :aria-label="night ? 'Day theme' : 'Night theme'"
      v-tip="'Day or night'"
      @click="toggleTheme()"
    >
      {{ night ? '◐' : '◑' }}
    </button>
  </header>
</template>

<style scoped>
.keeping {
  animation: appear 0s 0.4s both;
}
@keyframes appear {
  from {
    visibility: hidden;
  }
}
.top {
  grid-area: top;
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 0 12px;
  background: var(--panel);
  border-bottom: 1px solid var(--hairline);
  white-space: nowrap;
  min-width: 0;
}
.brand {
  display: flex;
  align-items: center;
  gap: 8px;
  font-size: 15px;
  font-weight: 600;
  color: inherit;
  text-decoration: none;
}
.project {
  border: 0;
  background: var(--panel);
  color: var(--ink-2);
  max-width: 190px;
  height: 28px;
}
.cutoff {
  display: flex;
  align-items: center;
  gap: 6px;
  border-left: 1px solid var(--hairline);
  padding-left: 12px;
}
.cutoff i {
  width: 2px;
  height: 16px;
  background: var(--cutoff);
}
.zone {
  overflow: hidden;
  text-overflow: ellipsis;
}
.grow {
  flex: 1;
}
.ring {
  display: flex;
  align-items: center;
  gap: 6px;
}
</style>
