<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { attempt, client, type Shapes, unwrap } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { useKept } from '../../state/kept'
import { useProject } from '../../state/project'
import { useView } from '../../state/view'
import type { Stage } from './useFlatten'

/** Chains to start from, each with its reason, and chains saved by name. */
const props = defineProps<{ chain: Stage[] }>()
const emit = defineEmits<{ take: [chain: Stage[]] }>()
const store = useProject()
const view = useView()
const name = ref('')
const id = computed(() => store.project?.id ?? 0)

const { data: chains, again: load } = useAnswer(
  'chains',
  () => ({
    params: { path: { project_id: id.value }, query: { until: view.cutoff } },
    seen: store.keptChanges,
  }),
  ({ params }, signal): Promise<Shapes['ChainsView']> =>
    unwrap(client.GET('/api/v1/projects/{project_id}/chains', { params, signal })),
)
async function save() {
  const body = { name: name.value.trim(), stages: props.chain }
  if (!body.name) return
  const params = { path: { project_id: id.value } }
  const saved = await attempt(() =>
    unwrap(client.POST('/api/v1/projects/{project_id}/chains', { params, body })),
  )
  if (saved) name.value = ''
  load()
}
const { remove } = useKept()
</script>

<template>
  <div>
    <section class="presets">
      <h3>start from</h3>
      <button
        v-for="each in chains?.presets ?? []"
        :key="each.name"
        @click="emit('take', each.stages as unknown as Stage[])"
      >
        <b>{{ each.name }}</b>
        <span class="second">{{ each.why }}</span>
      </button>
    </section>
    <section>
      <h3>saved in this project</h3>
      <span v-for="each in chains?.saved ?? []" :key="each.id" class="saved">
        <button class="grow" @click="emit('take', each.stages as unknown as Stage[])">{{ each.name }}</button>
        <button
          :aria-label="`Delete ${each.name}`"
          v-tip="'Delete it; Ctrl Z takes it back'"
          @click="remove({ ...each, kind: 'chains' })"
        >
          ×
        </button>
      </span>
      <span v-if="!chains?.saved.length" class="second none">none yet</span>
      <form class="save" @submit.prevent="save">
        <InputText
          v-model="name"
          class="field"
          maxlength="120"
          placeholder="Name of this chain"
          aria-label="Name of this chain"
        />
        <button class="button" :disabled="!name.trim() || !chain.length">Save</button>
      </form>
    </section>
  </div>
</template>

<style scoped>
section {
  display: flex;
  flex-direction: column;
}
.presets {
  max-width: 420px;
}
h3 {
  color: var(--ink-2);
  font-size: 12px;
  font-weight: 400;
  padding: 0 6px 2px;
}
section > button,
.saved button {
  border: 0;
  background: none;
  text-align: left;
  padding: 3px 6px;
  cursor: pointer;
}
section > button:hover,
section > button:focus-visible,
.saved button:hover {
  background: var(--selection);
}
b {
  display: block;
  font-weight: 500;
}
.presets .second {
  font-size: 12px;
}
.saved {
  display: flex;
}
.grow {
  flex: 1;
}
.none {
  padding: 3px 6px;
}
.save {
  display: flex;
  gap: 6px;
  padding: 6px;
}
</style>
