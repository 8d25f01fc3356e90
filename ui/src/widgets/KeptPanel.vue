<script setup lang="ts">
import Drawer from 'primevue/drawer'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { client, unwrap } from '../api/client'
import { useAnswer } from '../state/answers'
import { useKept, type Named } from '../state/kept'
import { useKeptLines, type Line } from '../state/keptLines'
import { useProject } from '../state/project'

/** Everything in the project that has a name: stand on it, rename, copy, delete; and what was deleted. */
const emit = defineEmits<{ close: [] }>()
const store = useProject()
const router = useRouter()
const { rename, copy, remove, restore } = useKept()
const { data: kept } = useAnswer(
  'kept',
  () => store.project && { params: { path: { project_id: store.project.id } }, seen: store.keptChanges },
  async ({ params }, signal) => {
    const [found, plans, gone] = await Promise.all([
      unwrap(client.GET('/api/v1/projects/{project_id}/chains', { params, signal })),
      unwrap(client.GET('/api/v1/projects/{project_id}/plans', { params, signal })),
      unwrap(client.GET('/api/v1/projects/{project_id}/deleted', { params, signal })),
    ])
    return { chains: found.saved, plans: plans.saved, deleted: gone.kept }
  },
)
const chains = computed(() => kept.value?.chains ?? [])
const plans = computed(() => kept.value?.plans ?? [])
const deleted = computed(() => kept.value?.deleted ?? [])
const find = ref<{ $el: HTMLInputElement }>()
const search = ref('')
const edited = ref('')
const keyOf = (each: { kind: string; id: number }) => `${each.kind} ${each.id}`

const lines = useKeptLines(chains, plans, search)
const gone = computed(() => [...deleted.value, ...store.deleted])
const until = (iso: string | null) =>
  iso ? new Date(iso).toLocaleString(undefined, { dateStyle: 'short', timeStyle: 'short' }) : ''

async function write(each: Line, event: Event) {
  const name = (event.target as HTMLInputElement).value.trim()
  if (edited.value !== keyOf(each)) return
  edited.value = ''
  if (name && name !== each.name) await rename(each, name)
}
async function drop(each: Line) {
  const here = each.kind === 'projects' && each.here
  if ((await remove(each)) && here) await router.push('/?projects=1')
}
const select = ({ el }: { el: unknown }) => (el as HTMLInputElement).select()
</script>

<template>
  <Drawer
    visible
    position="left"
    :modal="false"
    :show-close-icon="false"
    @show="find?.$el.focus()"
    :pt="{ root: { class: 'kept', role: 'dialog', 'aria-label': 'Everything kept' } }"
    @update:visible="emit('close')"
  >
    <template #header>
      <div class="head">
        <InputText
          ref="find"
          v-model="search"
          class="field"
          placeholder="Find by name"
          aria-label="Find by name"
        />
        <button class="button quiet" @click="emit('close')">Close</button>
      </div>
    </template>
    <div class="scroll">
      <section v-for="group in lines" :key="group.kind">
        <h3>{{ group.title }}</h3>
        <div v-for="each in group.lines" :key="each.id" class="line" :class="{ here: each.here }">
          <InputText
            v-if="edited === keyOf(each)"
            class="field"
            maxlength="200"
            :aria-label="`Name of ${each.name}`"
            :model-value="each.name"
            @keydown.enter="write(each, $event)"
            @keydown.esc.stop="edited = ''"
            @blur="write(each, $event)"
            @vue:mounted="select"
          />
          <button
            v-else
            class="name"
            v-tip="each.here ? 'In use' : 'Stand on it'"
            :aria-current="each.here || undefined"
            @click="each.stand?.()"
          >
            {{ each.name }} <span class="second">{{ each.about }}</span>
          </button>
          <button class="link" :aria-label="`Rename ${each.name}`" @click="edited = keyOf(each)">
            Rename
          </button>
          <button class="link" :aria-label="`Copy ${each.name}`" @click="copy(each)">Copy</button>
          <button class="link" :aria-label="`Delete ${each.name}`" @click="drop(each)">Delete</button>
        </div>
        <p v-if="!group.lines.length" class="second">{{ search ? 'none called that' : 'none' }}</p>
      </section>
      <section v-if="gone.length">
        <h3>Deleted, restorable for a week</h3>
        <div v-for="each in gone" :key="keyOf(each)" class="line">
          <span class="name"
            >{{ each.name }} <span class="second">{{ each.kind }}, until {{ until(each.until) }}</span></span
          >
          <button class="link" :aria-label="`Restore ${each.name}`" @click="restore(each as Named)">
            Restore
          </button>
        </div>
      </section>
    </div>
  </Drawer>
</template>

<style>
.kept {
  width: min(680px, calc(100vw - 90px)) !important;
}
</style>
<style scoped>
.head {
  flex: 1;
  display: flex;
  gap: 8px;
}
.head .field {
  flex: 1;
}
.scroll {
  padding: 4px 0 12px;
}
h3 {
  margin: 8px 0 2px;
  color: var(--ink-2);
  font-size: 12px;
  font-weight: 400;
}
.line {
  display: flex;
  align-items: baseline;
  gap: 12px;
  padding: 1px 6px;
}
.line:hover {
  background: var(--selection);
}
.here .name {
  font-weight: 500;
}
.here {
  box-shadow: inset 2px 0 0 var(--ink);
}
.name {
  flex: 1;
  min-width: 0;
  border: 0;
  background: none;
  padding: 2px 0;
  text-align: left;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.name .second {
  font-weight: 400;
  font-size: 12px;
  margin-left: 6px;
}
.line .field {
  flex: 1;
}
p {
  margin: 0;
  padding: 1px 6px;
}
</style>
