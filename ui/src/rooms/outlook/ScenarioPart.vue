<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Shapes } from '../../api/client'
import { problem } from '../../api/client'
import { counted } from '../../state/format'
import { useProject } from '../../state/project'
import { pastedEdit } from './edits'
import { MARKS, type Scenarios } from './useScenarios'

/** Scenarios that are kept, to be looked at beside the outlook; what is being changed, to be kept by a name. */
const props = defineProps<{ scenarios: Scenarios }>()
const store = useProject()
const { told, listed, occasions, column, times, origin, edits, removed, added, changed, shown } =
  props.scenarios
const title = ref('')
const pasting = ref(false)
const pasted = ref('')
const occasion = ref({ name: '', first: '' })

const changes = computed(() =>
  [
    edits.value.length ? counted(edits.value.length, 'change') : '',
    added.value.length ? `${counted(added.value.length, 'occasion')} more` : '',
    removed.value.length ? `${counted(removed.value.length, 'occasion')} less` : '',
  ]
    .filter(Boolean)
    .join(', '),
)
async function keep() {
  const name = title.value.trim() || `scenario ${listed.value.length + 1}`
  await props.scenarios.keep(name)
  title.value = ''
}
function take(scenario: Shapes['Scenario']) {
  props.scenarios.take(scenario)
  title.value = scenario.name
}
function paste(text: string) {
  const mine = { column: column.value?.name ?? '', key: null }
  const found = pastedEdit(text, mine, times.value, origin.value, (each) => store.axis?.parse(each) ?? null)
  if (typeof found === 'string') {
    problem.value = found
    return
  }
  edits.value = [...edits.value, found]
  pasting.value = false
  pasted.value = ''
}
async function file(event: Event) {
  const chosen = (event.target as HTMLInputElement).files?.[0]
  if (chosen) paste(await chosen.text())
}
function remove(name: string) {
  removed.value = removed.value.includes(name)
    ? removed.value.filter((each) => each !== name)
    : [...removed.value, name]
}
function add() {
  const { name, first } = occasion.value
  if (name && first) added.value = [...added.value, { name, first, last: null }]
  occasion.value = { name: '', first: '' }
}
const markOf = (id: number) => MARKS[shown.value.indexOf(id)]
</script>

<template>
  <ul v-if="listed.length" class="listed" aria-label="Scenarios">
    <li v-for="each in listed" :key="each.id">
      <button
        class="name"
        :aria-pressed="shown.includes(each.id)"
        v-tip="'Look at it beside the outlook'"
        @click="scenarios.toggle(each.id)"
      >
        <i :style="{ background: markOf(each.id)?.color ?? 'transparent' }"></i>{{ each.scenario.name }}
      </button>
      <button class="link" @click="take(each.scenario)">go on from it</button>
      <button class="link" :aria-label="`Remove ${each.scenario.name}`" @click="scenarios.forget(each.id)">
        remove
      </button>
    </li>
  </ul>
  <p v-else-if="told" class="second">None is kept yet.</p>
  <form v-if="changed" class="row" @submit.prevent="keep">
    <input v-model="title" class="field" aria-label="Name of the scenario" placeholder="a name" />
    <button class="button primary">Forecast and keep</button>
  </form>
  <p v-if="changed" class="second">{{ changes }}, not kept yet.</p>
  <template v-if="column">
    <button class="link" :aria-expanded="pasting" @click="pasting = !pasting">
      {{ column.name }} from a table or a file
    </button>
    <form v-if="pasting" class="paste" @submit.prevent="paste(pasted)">
      <textarea
        v-model="pasted"
        class="field number"
        rows="4"
        aria-label="Values, one a line"
        placeholder="2024-08-21 06:00, 24.5 — or a value a line"
      ></textarea>
      <div class="row">
        <button class="button" :disabled="!pasted.trim()">Take these</button>
        <label class="button"
          >A file … <input class="hidden" type="file" accept=".csv,.txt,.tsv" @change="file"
        /></label>
      </div>
    </form>
  </template>
  <p v-if="occasions.length" class="second occasions">
    Occasions ahead:
    <label v-for="each in occasions" :key="each"
      ><input type="checkbox" :checked="!removed.includes(each)" @change="remove(each)" /> {{ each }}</label
    >
  </p>
  <form class="row" @submit.prevent="add">
    <input
      v-model="occasion.name"
      class="field"
      aria-label="Another occasion"
      placeholder="another occasion"
    />
    <input v-model="occasion.first" class="field number" aria-label="Its day" placeholder="2024-08-21" />
    <button class="button" :disabled="!occasion.name || !occasion.first">Add</button>
  </form>
</template>

<style scoped>
.listed {
  list-style: none;
  margin: 0;
  padding: 0;
}
.listed li,
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.name {
  flex: 1;
  display: flex;
  gap: 6px;
  align-items: center;
  border: 0;
  padding: 3px 0;
  background: none;
  text-align: left;
  color: inherit;
  cursor: pointer;
}
.name[aria-pressed='true'] {
  font-weight: 600;
}
i {
  width: 10px;
  height: 10px;
  border: 1px solid var(--ink-3);
}
.row .field {
  flex: 1;
  min-width: 80px;
  width: 80px;
}
.paste {
  display: grid;
  gap: 6px;
}
.hidden {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
}
.occasions {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
p {
  margin: 0;
}
</style>
