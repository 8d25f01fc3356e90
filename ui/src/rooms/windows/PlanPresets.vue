<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { attempt, client, type Shapes, unwrap } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useKept } from '../../state/kept'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import type { Plan } from './planText'

/** Plans to begin with; each says what in the series speaks for it. */
const props = defineProps<{ text: string; plan: Plan; horizon: number[] }>()
const emit = defineEmits<{ change: [plan: Plan] }>()
const store = useProject()
const view = useView()
const pointed = ref<Shapes['PlanPresetView'] | null>(null)
const { data: offered } = useAnswer(
  'plan presets',
  () =>
    store.dataset && {
      params: { path: { dataset_id: store.dataset.id } },
      body: { series: view.series, until: view.cutoff, horizon: props.horizon },
    },
  (asked, signal) =>
    unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows/presets', { ...asked, signal })),
  { settle: 400 },
)
const presets = computed(() => offered.value?.presets ?? [])
const { data: plans, again: loadSaved } = useAnswer(
  'plans',
  () => store.project && { params: { path: { project_id: store.project.id } }, seen: store.keptChanges },
  ({ params }, signal) => unwrap(client.GET('/api/v1/projects/{project_id}/plans', { params, signal })),
)
const saved = computed(() => plans.value?.saved ?? [])
const name = ref('')
const { remove } = useKept()
async function save() {
  if (!store.project || !name.value.trim()) return
  const params = { path: { project_id: store.project.id } }
  const body = { name: name.value.trim(), plan: props.plan }
  const made = await attempt(() =>
    unwrap(client.POST('/api/v1/projects/{project_id}/plans', { params, body: body as never })),
  )
  if (made) name.value = ''
  loadSaved()
}
</script>

<template>
  <div class="presets">
    <span class="second">Begin with</span>
    <div class="names" @mouseleave="pointed = null">
      <button
        v-for="preset in presets"
        :key="preset.title"
        :aria-pressed="preset.text === text"
        v-tip="`${preset.reason}\n${preset.text}`"
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
          v-tip="each.text"
          @click="emit('change', each.plan as unknown as Plan)"
        >
          {{ each.name }}</button><button
          :aria-label="`Delete ${each.name}`"
          v-tip="'Delete it; Ctrl Z takes it back'"
          @click="remove({ ...each, kind: 'plans' })"
        >
          ×
        </button>
      </span>
      <form class="saved" @submit.prevent="save">
        <InputText
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
