<script setup lang="ts">
import { computed, onBeforeUnmount, ref, toRef, watch, watchPostEffect } from 'vue'
import type { Shapes } from '../../../api/client'
import PlotChart from '../../../charts/PlotChart.vue'
import { counted, seconds, signed } from '../../../state/format'
import { roomActions } from '../../../state/keys'
import FactList from '../../../widgets/FactList.vue'
import RoomFrame from '../../../widgets/RoomFrame.vue'
import BlendWeights from './BlendWeights.vue'
import BudgetForm from './BudgetForm.vue'
import CandidateTable from './CandidateTable.vue'
import SpaceTable from './SpaceTable.vue'
import { raceLines } from './raceLines'
import { useSearch, type Budget } from './useSearch'

/** A search: its space before it begins, the race while it runs, and what was found. */
const props = defineProps<{ experiment: Shapes['ExperimentView']; active: boolean }>()
const emit = defineEmits<{ close: []; stop: []; run: [] }>()
const { search, asked, space, busy, begin, take } = useSearch(toRef(props, 'experiment'))

const budget = ref<Budget>({ seconds: 60, fits: null, limit: null })
const left = ref<string[]>([])
const selected = ref('')
const families = computed(() => space.data.value?.families ?? [])
const chosen = computed(() =>
  families.value.filter((each) => !left.value.includes(String(each.forecaster.kind))),
)
const running = computed(() => props.active && search.value?.state === 'running')
watch(
  () => search.value?.settings,
  (now) => now && (budget.value = { seconds: now.seconds ?? null, fits: now.fits ?? null, limit: null }),
)
const lines = computed(() => (search.value ? raceLines(search.value, selected.value) : []))
const sum = computed(() => {
  const asks = search.value?.settings
  const most = [asks?.seconds && `${seconds(asks.seconds)}`, asks?.fits && counted(asks.fits, 'fit')].filter(
    Boolean,
  )
  const folds = counted(props.experiment.folds.length, 'search fold')
  const sealed = props.experiment.sealed.length ? `, ${props.experiment.sealed.length} sealed` : ''
  return `budget ${most.join(' and ') || '60 s'}, ${folds}${sealed}`
})
const winner = computed(() => search.value?.blend ?? search.value?.best ?? null)
const title = computed(() => {
  if (!search.value) return 'Search'
  const members = search.value.members.length
  if (!winner.value) return running.value ? 'Nothing yet' : 'Nothing was found'
  return `Best so far: ${members ? `a blend of ${members}` : winner.value}`
})
const facts = computed(() => {
  const now = search.value
  if (!now) return []
  const [first, second] = now.moved.filter((each) => each.share > 0.02)
  return [
    now.best_error !== null && {
      name: 'best single, search folds',
      value: `${signed(1 - now.best_error)} skill`,
    },
    now.luck && {
      name: `by luck alone, ${counted(now.luck.tries, 'try', 'tries')}`,
      value: signed(now.luck.expected),
      hint: `One in twenty such searches shows ${signed(now.luck.high)} or more; p ${now.luck.p_hansen.toFixed(3)} (Hansen), ${now.luck.p_white.toFixed(3)} (White)`,
    },
    props.experiment.sealed.length > 0 && { name: 'sealed folds', value: 'on the board', words: true },
    first && { name: 'moved the error most', value: first.setting.replaceAll('_', ' '), words: true },
    second && { name: 'then', value: second.setting.replaceAll('_', ' '), words: true },
  ]
})
const taken = computed(() => {
  const known = new Set(props.experiment.contenders.map((each) => each.name))
  const wanted = [search.value?.blend, search.value?.candidates.find((each) => each.state === 'kept')?.name]
  return wanted.filter((each): each is string => Boolean(each) && !known.has(each as string))
})
const picked = computed(() => search.value?.candidates.find((each) => each.name === selected.value) ?? null)

async function start() {
  if (await begin(budget.value, search.value ? undefined : chosen.value)) selected.value = ''
}
async function toBoard() {
  if (!taken.value.length || (await take(taken.value))) emit('close')
}
watchPostEffect(() => {
  roomActions.run = () => void (running.value || start())
  roomActions.stop = () => (running.value ? emit('stop') : emit('close'))
})
onBeforeUnmount(() => (roomActions.run = roomActions.stop = null))
</script>

<template>
  <RoomFrame strip needs-data :origins="experiment.folds.map((each) => each.cutoff)">
    <section v-if="!experiment.searches" class="panel before" aria-label="What is searched">
      <header>
        <h1>Search</h1>
        <span class="second"
          >{{ sum }}; the cheap and strong first, whoever is in the better half goes on to more folds</span
        >
      </header>
      <p v-if="space.failure.value" class="worse" role="alert">{{ space.failure.value }}</p>
      <SpaceTable v-model:left="left" :families="families" />
    </section>
    <template v-else>
      <PlotChart
        class="panel race"
        :title="`Search, ${sum}`"
        :series="lines"
        :note="asked.failure.value || (search?.candidates.length ? '' : 'The baseline is judged first …')"
        :y-label="`error relative to ${search?.baseline ?? experiment.baseline}`"
        x-label="s"
        log-x
      />
      <CandidateTable
        v-if="search"
        class="candidates"
        :search="search"
        :folds="experiment.folds.length"
        :selected="selected"
        @select="selected = $event === selected ? '' : $event"
      />
    </template>
    <template #inspector>
      <h1>{{ title }}</h1>
      <p v-if="search" class="second spent">
        {{ search.spent.toFixed(0) }} s{{
          search.settings.seconds ? ` of ${search.settings.seconds} s` : ''
        }}
        spent, {{ counted(search.candidates.length, 'candidate') }} tried, {{ counted(search.fits, 'fit') }}
      </p>
      <BlendWeights v-if="search?.members.length" :search="search" />
      <FactList v-if="search" :facts="facts" />
      <p v-if="search" class="sentence">{{ search.text }}</p>
      <p v-if="picked?.reason" class="worse sentence">{{ picked.name }}: {{ picked.reason }}</p>
      <BudgetForm v-if="!running" v-model="budget" />
      <p v-if="!search" class="second sentence">
        The last folds that are sealed are not touched. What is found is judged on the same folds as the rest
        of the board, and what luck alone would have shown stands beside it.
      </p>
      <span style="flex: 1"></span>
      <div class="buttons">
        <button v-if="running" class="button" @click="emit('stop')">Stop (Esc)</button>
        <button
          v-else
          class="button"
          :class="{ primary: !search }"
          :disabled="busy || active || (!search && !chosen.length)"
          @click="start"
        >
          {{ search ? 'Go on with this budget' : 'Search (r)' }}
        </button>
        <button v-if="search" class="button" :class="{ primary: winner }" :disabled="busy" @click="toBoard">
          To the board
        </button>
        <button v-else class="button" @click="emit('close')">Back to the board</button>
      </div>
    </template>
  </RoomFrame>
</template>

<style scoped>
.race {
  padding: 6px 12px;
  flex: 1 1 55%;
  min-height: 180px;
}
.candidates {
  flex: 1 1 45%;
  min-height: 120px;
}
.before {
  flex: 1;
  overflow: auto;
  padding: 8px 16px;
}
header {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
h1,
p {
  margin: 0;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
</style>
