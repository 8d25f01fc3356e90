<script setup lang="ts">
import { ref, watch } from 'vue'
import { attempt, client, fetched, type Shapes, unwrap } from '../../api/client'
import { useKept } from '../../state/kept'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import type { Plan } from './planText'

/** Plans to begin with; each says what in the series speaks for it. */
const props = defineProps<{ text: string; plan: Plan; horizon: number[] }>()
const emit = defineEmits<{ change: [plan: Plan] }>()
const store = useProject()
const view = useView()
const presets = ref<Shapes['PlanPresetView'][]>([])
const pointed = ref<Shapes['PlanPresetView'] | null>(null)
let timer: ReturnType<typeof setTimeout> | undefined

async function load() {
  if (!store.dataset) return
  const params = { path: { dataset_id: store.dataset.id } }
  const body = { series: view.series, until: view.cutoff, horizon: props.horizon }
  const found = await fetched(() =>
    unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows/presets', { params, body })),
  )
  if (found) presets.value = found.presets
}
const saved = ref<Shapes['SavedPlan'][]>([])
const name = ref('')
const { remove } = useKept()
async function loadSaved() {
  if (!store.project) return
  const params = { path: { project_id: store.project.id } }
  const found = await fetched(() => unwrap(client.GET('/api/v1/projects/{project_id}/plans', { params })))
  if (found) saved.value = found.saved
}
watch(() => [store.project?.id, store.keptChanges], loadSaved, { immediate: true })
async function save() {
  if (!store.project || !name.value.trim()) return
  const params = { path: { project_id: store.project.id } }
  const body = { name: name.value.trim(), plan: props.plan }
  const made = await attempt(() =>
    unwrap(client.POST('/api/v1/projects/{project_id}/plans', { params, body: body as never })),
  )
  if (made) name.value = ''
  await loadSaved()
}

watch(
  () => [store.dataset?.id, view.series, view.cutoff, props.horizon.join()],
  () => {
    clearTimeout(timer)
    timer = setTimeout(() => void load(), 400)
  },
  { immediate: true },
)
</script>

<template>
  <div class="presets">
    <span class="second">Begin with</span>
    <div class="names" @mouseleave="pointed = null">
      <button
        v-for="preset in presets"
        :key="preset.title"
        :aria-pressed="preset.text === text"
        :title="`${preset.reason}\n${preset.text}`"
        @mouseenter="pointed = preset"
        @focus="pointed = preset"
        @blur="pointed = null"
        @click="emit('change', preset.plan as unknown as Plan)"
      >
        {{ preset.title }}
      </button>
    </div>
    <div class="names">
      <span v-for="each in saved" :key="each.id" class="saved">
        <button
          :aria-pressed="each.text === text"
          :title="each.text"
          @click="emit('change', each.plan as unknown as Plan)"
        >
          {{ each.name }}</button><button
          :aria-label="`Delete ${each.name}`"
          title="Delete it; Ctrl Z takes it back"
          @click="remove({ ...each, kind: 'plans' })"
        >
          ×
        </button>
      </span>
      <form class="saved" @submit.prevent="save">
        <input
          v-model="name"
          class="field"
          maxlength="120"
          placeholder="Keep this plan as"
          aria-label="Name of this plan"
        />
        <button :disabled="!name.trim()">Save</button>
      </form>
    </div>
    <p v-if="pointed" class="reason">{{ pointed.reason }}</p>
  </div>
</template>

<style scoped>
.presets {
  position: relative;
}
.names {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  margin-top: 4px;
}
button {
  border: 1px solid var(--hairline);
  border-radius: 3px;
  background: none;
  padding: 1px 6px;
  font-size: 12px;
  cursor: pointer;
  color: var(--ink-2);
}
.saved {
  display: flex;
}
.saved .field {
  width: 120px;
  height: 20px;
  font-size: 12px;
}
button[aria-pressed='true'] {
  border-color: var(--ink);
  background: var(--selection);
  color: var(--ink);
}
.reason {
  position: absolute;
  top: 100%;
  left: 0;
  right: 0;
  z-index: 6;
  margin: 4px 0 0;
  padding: 6px 10px;
  background: var(--panel);
  border: 1px solid var(--ink-3);
  border-radius: 3px;
  font-size: 12px;
  color: var(--ink-2);
}
</style>
