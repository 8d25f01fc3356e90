<script setup lang="ts">
import RadioButton from 'primevue/radiobutton'
import type { Shapes } from '../../api/client'
import { count } from '../../state/format'

/** What was found, how often, and what is done about it; pointing at a finding shows its rows or its place. */
defineProps<{
  findings: Shapes['FindingView'][]
  live: boolean
  trying?: { id: string; remedy: string } | null
}>()
const emit = defineEmits<{
  point: [finding: Shapes['FindingView']]
  choose: [id: string, remedy: string]
  tryOut: [finding: Shapes['FindingView'], remedy: string]
}>()
</script>

<template>
  <section>
    <h2>
      Findings <span class="number second">{{ findings.length }}</span>
    </h2>
    <p v-if="!findings.length" class="second">Nothing was found to be wrong.</p>
    <article v-for="finding in findings" :key="finding.id" :class="finding.severity">
      <button class="what" @click="emit('point', finding)">
        <b>{{ finding.id }}</b>
        <span v-if="finding.count" class="number second">{{ count(finding.count) }}</span>
      </button>
      <p>{{ finding.message }}</p>
      <div v-if="finding.remedies.length && live" class="remedies">
        <label v-for="remedy in finding.remedies" :key="remedy.name">
          <RadioButton
            :name="finding.id"
            :value="remedy.name"
            :model-value="finding.settled ? finding.chosen : null"
            @update:model-value="emit('choose', finding.id, remedy.name)"
          />
          {{ remedy.label }}
          <button
            v-if="remedy.name !== finding.chosen"
            class="see"
            :aria-label="`Show what “${remedy.label}” would do`"
            :aria-pressed="trying?.id === finding.id && trying.remedy === remedy.name"
            @click.prevent="emit('tryOut', finding, remedy.name)"
          >
            see
          </button>
        </label>
        <p v-if="!finding.settled" class="worse">Changes values: choose one.</p>
        <p v-else-if="finding.proposed !== finding.chosen && finding.proposed" class="second">
          proposed: {{ finding.remedies.find((each) => each.name === finding.proposed)?.label }}
        </p>
      </div>
      <p v-else-if="finding.chosen" class="second">
        done: {{ finding.remedies?.find((each) => each.name === finding.chosen)?.label ?? finding.chosen }}
      </p>
    </article>
  </section>
</template>

<style scoped>
section {
  display: flex;
  flex-direction: column;
  gap: 8px;
}
h2,
p {
  margin: 0;
}
article {
  border-left: 3px solid var(--hairline);
  padding: 0 0 6px 8px;
}
article.warning,
article.error {
  border-left-color: var(--worse);
}
.what {
  all: unset;
  cursor: pointer;
  display: flex;
  justify-content: space-between;
  width: 100%;
}
.what:focus-visible,
.see:focus-visible {
  outline: 2px solid var(--ink);
  outline-offset: 1px;
}
.remedies {
  margin-top: 4px;
}
label {
  display: flex;
  align-items: center;
  gap: 6px;
  font-size: 12px;
}
.see {
  all: unset;
  cursor: pointer;
  margin-left: auto;
  color: var(--ink-2);
  text-decoration: underline;
  font-size: 12px;
}
.see[aria-pressed='true'] {
  color: var(--ink);
  font-weight: 600;
}
article p {
  font-size: 12px;
  overflow-wrap: anywhere;
}
</style>
