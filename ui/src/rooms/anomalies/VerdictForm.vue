<script setup lang="ts">
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'

/** What somebody calls it, a note, and by whom. */
const props = defineProps<{ kind: string; note: string; kinds: string[]; of: string }>()
const emit = defineEmits<{ say: [said: { kind: string | null; note: string }]; close: [] }>()
const kind = ref(props.kind)
const note = ref(props.note)
const who = ref(localStorage.getItem('who') ?? '')
function say() {
  localStorage.setItem('who', who.value.trim())
  emit('say', { kind: kind.value.trim() || null, note: note.value.trim() })
}
</script>

<template>
  <Dialog visible modal dismissable-mask :header="of" style="width: 340px" @update:visible="emit('close')">
    <form class="form" @submit.prevent="say">
      <label
        >What it is <InputText v-model="kind" class="field" list="kinds" maxlength="60" autofocus
      /></label>
      <datalist id="kinds">
        <option v-for="each in kinds" :key="each" :value="each"></option>
      </datalist>
      <label>Note <InputText v-model="note" class="field" maxlength="2000" /></label>
      <label>Said by <InputText v-model="who" class="field" maxlength="200" /></label>
      <div class="buttons">
        <button class="button primary" type="submit">Keep (Enter)</button>
      </div>
    </form>
  </Dialog>
</template>

<style scoped>
.form {
  display: grid;
  gap: 10px;
}
label {
  display: grid;
  gap: 4px;
  color: var(--ink-2);
}
</style>
