<script setup lang="ts">
import Checkbox from 'primevue/checkbox'
import { computed } from 'vue'
import { number } from '../../../state/format'
import type { Cost } from './useCosts'

/** All families: what each can do, why one does not suit the series, what a fit costs here; several are taken at once. */
export interface Kind {
  kind: string
  title: string
  group: string
  can: string[]
  reason: string
  entered: number
  cost?: Cost
}
const props = defineProps<{ kinds: Kind[] }>()
const emit = defineEmits<{
  enter: [kind: string]
  leave: [kind: string]
  vary: [kind: string]
  bring: [file: File]
}>()

const ABILITIES = ['trend', 'seasons', 'covariates', 'gaps', 'ranges']
const GROUPS: Record<string, string> = {
  baseline: 'Baselines',
  classical: 'Classical',
  windows: 'Learned on windows',
}
const groups = computed(() =>
  [...new Set(props.kinds.map((each) => each.group))].map((group) => ({
    title: GROUPS[group] ?? group.charAt(0).toUpperCase() + group.slice(1),
    kinds: props.kinds.filter((each) => each.group === group),
  })),
)
function costText(cost: Cost | undefined): string {
  if (!cost) return '…'
  if ('problem' in cost) return '–'
  if (cost.seconds === null) return `> ${cost.limit} s`
  return cost.seconds < 0.9995 ? `${number(cost.seconds * 1000, 2)} ms` : `${number(cost.seconds, 2)} s`
}
const costNote = (cost: Cost | undefined) =>
  !cost ? 'Being measured' : 'problem' in cost ? cost.problem : 'One fit of it, settings as they begin'

function bring(event: Event) {
  const field = event.target as HTMLInputElement
  if (field.files?.[0]) emit('bring', field.files[0])
  field.value = ''
}

/** Arrows go from one to the next, as in a list. */
function walk(event: KeyboardEvent) {
  const by = { ArrowDown: 1, ArrowUp: -1 }[event.key]
  if (!by) return
  event.preventDefault()
  const host = event.currentTarget as HTMLElement
  const all = [...host.querySelectorAll<HTMLInputElement>('input[type="checkbox"]')]
  const here = all.indexOf(
    (event.target as HTMLElement).closest('tr')?.querySelector('input') as HTMLInputElement,
  )
  all[Math.min(Math.max(here + by, 0), all.length - 1)]?.focus()
}
</script>

<template>
  <section class="shelf panel" aria-label="Shelf">
    <header>
      <h1>Shelf</h1>
      <span class="second">what each can do here, and what one fit costs, measured on this series</span>
      <label class="button quiet bring" v-tip="'A table: time, series, value, and perhaps origin and bounds'">
        forecasts made elsewhere …
        <input type="file" aria-label="Forecasts made elsewhere" @change="bring" />
      </label>
    </header>
    <div class="scroll" @keydown="walk">
      <table>
        <thead>
          <tr>
            <th></th>
            <th></th>
            <th v-for="ability in ABILITIES" :key="ability" class="second">{{ ability }}</th>
            <th class="second cost">a fit</th>
            <th></th>
          </tr>
        </thead>
        <tbody v-for="group in groups" :key="group.title">
          <tr>
            <th colspan="9" scope="rowgroup" class="group second">{{ group.title }}</th>
          </tr>
          <tr v-for="each in group.kinds" :key="each.kind" :class="{ unsuited: each.reason }">
            <td>
              <Checkbox
                binary
                :model-value="each.entered > 0"
                :aria-label="`Enter ${each.title}`"
                @update:model-value="$event ? emit('enter', each.kind) : emit('leave', each.kind)"
              />
            </td>
            <td>
              {{ each.title }}<span v-if="each.entered > 1" class="second number"> × {{ each.entered }}</span>
            </td>
            <td v-if="each.reason" :colspan="ABILITIES.length" class="reason" v-tip="each.reason">
              {{ each.reason }}
            </td>
            <td v-for="ability in each.reason ? [] : ABILITIES" :key="ability" class="ability">
              <i
                :class="{ can: each.can.includes(ability) }"
                :aria-label="each.can.includes(ability) ? 'yes' : 'no'"
                role="img"
              ></i>
            </td>
            <td class="number cost" v-tip="costNote(each.cost)">
              {{ each.reason && !each.cost ? '–' : costText(each.cost) }}
            </td>
            <td>
              <button
                class="button quiet"
                :aria-label="`Vary ${each.title}`"
                @click="emit('vary', each.kind)"
              >
                vary
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.shelf {
  display: flex;
  flex-direction: column;
  min-height: 0;
  padding: 8px 12px;
  gap: 4px;
}
header {
  flex: none;
  display: flex;
  gap: 12px;
  align-items: baseline;
  white-space: nowrap;
  overflow: hidden;
}
h1 {
  margin: 0;
}
.scroll {
  overflow: auto;
  min-height: 0;
}
table {
  width: 100%;
  border-collapse: collapse;
}
thead th {
  position: sticky;
  top: 0;
  background: var(--panel);
  font-weight: 400;
  font-size: 12px;
  z-index: 1;
}
.group {
  text-align: left;
  font-weight: 400;
  font-size: 12px;
  padding-top: 4px;
}
td {
  padding: 0 6px;
  height: 22px;
}
.ability {
  text-align: center;
}
i {
  display: inline-block;
  width: 7px;
  height: 7px;
  border: 1px solid var(--ink-3);
  border-radius: 50%;
}
i.can {
  background: var(--ink-2);
  border-color: var(--ink-2);
}
.cost {
  min-width: 76px;
  text-align: right;
  white-space: nowrap;
}
.reason {
  max-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  color: var(--ink-2);
}
.bring {
  margin-left: auto;
  cursor: pointer;
}
.bring input {
  position: absolute;
  width: 1px;
  opacity: 0;
}
.bring:focus-within {
  outline: 2px solid var(--ink);
}
td .button.quiet {
  padding: 0 6px;
  height: 20px;
  min-height: 0;
  font-weight: 400;
  color: var(--ink-2);
}
.p-checkbox {
  display: block;
}
</style>
