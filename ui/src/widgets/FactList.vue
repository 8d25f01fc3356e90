<script setup lang="ts">
/** What is the case, name by value; what is false is left out. */
export interface Fact {
  name: string
  value: string | number
  /** Shown while pointed at. */
  hint?: string
  /** Said in words, not in figures. */
  words?: boolean
  tone?: string
}
defineProps<{ facts: (Fact | false | null | undefined)[]; caption?: string }>()
</script>

<template>
  <table class="facts">
    <caption v-if="caption">
      {{
        caption
      }}
    </caption>
    <tbody>
      <template v-for="(each, i) in facts" :key="i">
        <tr v-if="each" v-tip="each.hint">
          <td>{{ each.name }}</td>
          <td :class="[each.words ? '' : 'number', each.tone]">{{ each.value }}</td>
        </tr>
      </template>
      <slot />
    </tbody>
  </table>
</template>

<style scoped>
caption {
  text-align: left;
  color: var(--ink-2);
}
</style>
