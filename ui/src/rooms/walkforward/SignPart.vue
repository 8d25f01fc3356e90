<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { count } from '../../state/format'
import { useProject } from '../../state/project'
import AnswerNote from '../../widgets/AnswerNote.vue'

/** How often what was forecast to rise and to fall did so, against the last value known. */
const props = defineProps<{ experiment: number; contender: string }>()
const store = useProject()
const answer = useAnswer(
  'signs',
  () => ({
    params: { path: { experiment_id: props.experiment }, query: { contender: props.contender } },
  }),
  (asked, signal): Promise<Shapes['SignsView']> =>
    unwrap(client.GET('/api/v1/experiments/{experiment_id}/signs', { ...asked, signal })),
  { live: () => `experiment ${props.experiment}`, tick: () => store.tick(`experiment ${props.experiment}`) },
)
const WAYS = ['up', 'down']
const table = computed(() => answer.data.value?.changes)
const right = computed(() => {
  const found = table.value
  const all = WAYS.flatMap((said) => WAYS.map((went) => found?.[said]?.[went] ?? 0)).reduce(
    (a, b) => a + b,
    0,
  )
  return all ? Math.round((((found?.up?.up ?? 0) + (found?.down?.down ?? 0)) / all) * 100) : null
})
</script>

<template>
  <AnswerNote v-if="answer.loading.value || answer.failure.value" :answer="answer" what="signs" />
  <table v-else-if="table">
    <thead>
      <tr>
        <td></td>
        <th v-for="went in WAYS" :key="went" scope="col" class="second">went {{ went }}</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="said in WAYS" :key="said">
        <th scope="row" class="second">said {{ said }}</th>
        <td v-for="went in WAYS" :key="went" class="number" :class="said === went ? 'better' : 'worse'">
          {{ count(table[said]?.[went]) }}
        </td>
      </tr>
    </tbody>
    <caption class="second">
      {{
        right === null ? 'nothing moved' : `right in ${right} % of all steps, against the last value known`
      }}
    </caption>
  </table>
</template>

<style scoped>
table {
  width: 100%;
  border-collapse: collapse;
}
th {
  font-weight: 400;
  text-align: left;
}
thead th,
td {
  text-align: right;
}
caption {
  caption-side: bottom;
  text-align: left;
  font-size: 12px;
}
</style>
