<script setup lang="ts">
import Dialog from 'primevue/dialog'
import { attempt, client, unwrap, type Shapes } from '../api/client'
import { useProject } from '../state/project'

const emit = defineEmits<{ close: [] }>()
const store = useProject()

/** What kind of work it is, and how far the part is that is being computed. */
function about(work: Shapes['RunningView']) {
  const part = work.kind === 'experiment' ? store.progress[work.id] : undefined
  return part ? `${part.about}, ${Math.round(part.share * 100)} %` : work.kind
}

async function stop(id: number) {
  const params = { path: { experiment_id: id } }
  await attempt(() => unwrap(client.POST('/api/v1/experiments/{experiment_id}/stop', { params })))
  await store.reload()
}
</script>

<template>
  <Dialog
    visible
    dismissable-mask
    position="topright"
    header="Running work"
    style="width: 380px"
    @update:visible="emit('close')"
  >
    <div v-for="each in store.running" :key="`${each.kind} ${each.id}`" class="row">
      <span
        >{{ each.title }} <span class="second">{{ about(each) }}</span></span
      >
      <span class="number">{{ each.done }} of {{ each.of }}</span>
      <button v-if="each.kind === 'experiment'" class="button" @click="stop(each.id)">Stop</button>
    </div>
    <p v-if="!store.running.length" class="second">Nothing is running.</p>
  </Dialog>
</template>

<style scoped>
.row {
  display: grid;
  grid-template-columns: 1fr auto auto;
  gap: 12px;
  align-items: center;
  padding: 4px 0;
}
</style>
