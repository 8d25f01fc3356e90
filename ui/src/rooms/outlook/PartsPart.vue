<script setup lang="ts">
import { computed } from 'vue'
import { client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { fixed } from '../../state/format'
import { useView } from '../../state/view'

/** What the forecast of one step is made of, as a sum that adds up. */
const props = defineProps<{ outlook: Shapes['OutlookView']; picked: number; decimals: number }>()
const view = useView()
const { data } = useAnswer(
  'outlook parts',
  () =>
    props.outlook.seed != null
      ? { params: { path: { outlook_id: props.outlook.id }, query: { series: view.series } } }
      : null,
  (asked, signal): Promise<Shapes['PartsView']> =>
    unwrap(client.GET('/api/v1/outlooks/{outlook_id}/parts', { ...asked, signal })),
  { aside: true },
)
const SLOTS = ['c8', 'c3', 'c5', 'c6', 'c2', 'c7', 'c4', 'c1']
const parts = computed(() =>
  (data.value?.names ?? []).map((name, n) => ({
    name,
    value: data.value?.parts[n]?.[props.picked] ?? null,
    error: data.value?.errors[n]?.[props.picked] ?? null,
    color: `var(--${SLOTS[n % SLOTS.length]})`,
  })),
)
const whole = computed(() => parts.value.reduce((sum, each) => sum + Math.abs(each.value ?? 0), 0) || 1)
const signed = (value: number | null, first: boolean) =>
  value !== null && value > 0 && !first ? `+${fixed(value, props.decimals)}` : fixed(value, props.decimals)
</script>

<template>
  <section v-if="parts.length > 1" aria-label="Parts">
    <h2>What {{ fixed(outlook.mean[picked], decimals) }} is made of</h2>
    <div class="bar" aria-hidden="true">
      <i
        v-for="each in parts"
        :key="each.name"
        :style="{ width: `${(100 * Math.abs(each.value ?? 0)) / whole}%`, background: each.color }"
        :class="{ less: (each.value ?? 0) < 0 }"
      ></i>
    </div>
    <table class="facts">
      <tbody>
        <tr v-for="(each, n) in parts" :key="each.name">
          <td><i class="dot" :style="{ background: each.color }"></i>{{ each.name }}</td>
          <td class="number">
            {{ signed(each.value, n === 0)
            }}<span v-if="each.error !== null" class="second" v-tip="'Twice its standard error'">
              ±{{ fixed(2 * each.error, decimals) }}</span
            >
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 4px;
  font-size: 12px;
  font-weight: 400;
  color: var(--ink-2);
}
.bar {
  display: flex;
  height: 14px;
  gap: 1px;
}
.less {
  opacity: 0.5;
}
.dot {
  display: inline-block;
  width: 8px;
  height: 8px;
  margin-right: 6px;
}
</style>
