<script setup lang="ts">
import Toast from 'primevue/toast'
import { useToast } from 'primevue/usetoast'
import { onMounted, watch } from 'vue'
import { undoable, useKept } from '../state/kept'

/** What was done last and can be taken back. */
const toast = useToast()
const { undo } = useKept()
const LIFE = 20_000
function tell() {
  toast.removeGroup('done')
  if (undoable.value)
    toast.add({ group: 'done', severity: 'secondary', summary: undoable.value.name, life: LIFE })
}
onMounted(tell)
watch(undoable, tell)
</script>

<template>
  <Toast group="done" position="bottom-right">
    <template #container="{ message }">
      <div class="done">
        <span>“{{ message.summary }}” is deleted.</span>
        <button class="button" @click="undo()">Undo (Ctrl Z)</button>
        <button class="button quiet" aria-label="Leave it deleted" @click="undoable = null">×</button>
      </div>
    </template>
  </Toast>
</template>

<style scoped>
.done {
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 8px 12px;
}
.done span {
  flex: 1;
}
</style>
