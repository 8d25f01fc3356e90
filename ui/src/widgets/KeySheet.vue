<script setup lang="ts">
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
  ['Ctrl Z', 'take the last deletion back'],
  ['Esc', 'stop, close'],
]
</script>

<template>
  <div class="shade" @click.self="emit('close')">
    <div class="panel" role="dialog" aria-label="Keys">
      <h1>Keys</h1>
      <table class="facts">
        <tbody>
          <tr v-for="[key, what] in keys" :key="key">
            <td class="number">{{ key }}</td>
            <td>{{ what }}</td>
          </tr>
        </tbody>
      </table>
      <button class="button" @click="emit('close')">Close</button>
    </div>
  </div>
</template>

<style scoped>
.shade {
  position: fixed;
  inset: 0;
  z-index: 50;
  background: color-mix(in srgb, var(--ground) 55%, transparent);
}
.panel {
  width: 380px;
  margin: 90px auto;
  padding: 16px;
  border-color: var(--ink-3);
}
.button {
  margin-top: 12px;
}
</style>
