<script setup lang="ts">
import Dialog from 'primevue/dialog'

const emit = defineEmits<{ close: [] }>()
const keys: [string, string][] = [
  ['1 – 7', 'rooms'],
  ['Ctrl K', 'command palette'],
  ['[  ]', 'cutoff back / forward one fold'],
  ['Shift [  ]', 'cutoff back / forward one step'],
  [',  .', 'previous / next series'],
  ['u', 'original or flattened units'],
  ['Alt drag', 'select a span'],
  ['z', 'zoom to the selection'],
  ['0', 'the whole series'],
  ['wheel, drag', 'zoom at the pointer, pan'],
  ['r', 'run'],
  ['k', 'everything kept: rename, copy, delete, restore'],
  ['n  b', 'Anomalies: next / previous flag'],
  ['c  d', 'Anomalies: the flag is right / wrong'],
  ['l', 'Anomalies: name it, leave a note'],
  ['s', 'Anomalies: all flags like this one'],
  ['h j  i o', 'Anomalies: the flag begins / ends a step earlier, later'],
  ['a', 'Anomalies: the selected span is what it is'],
  ['n  b', 'Outlook: next / previous step'],
  ['p', 'Outlook: some of the joint paths'],
  ['d', 'Outlook: draw its paths anew'],
  ['s', 'Outlook: the next scenario beside it'],
  ['f', 'Outlook: refit on the newest data'],
  ['y', 'Outlook: copy the sentence'],
  ['Ctrl Z', 'take the last deletion, or verdict, back'],
  ['Esc', 'stop, close'],
]
</script>

<template>
  <Dialog visible modal dismissable-mask header="Keys" style="width: 380px" @update:visible="emit('close')">
    <dl>
      <template v-for="[key, what] in keys" :key="key">
        <dt class="number">{{ key }}</dt>
        <dd>{{ what }}</dd>
      </template>
    </dl>
  </Dialog>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 6px 16px;
  margin: 0;
}
dd {
  margin: 0;
}
</style>
