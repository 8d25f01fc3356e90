<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../api/client'
import { useAnswer } from '../../state/answers'
import { counted } from '../../state/format'
import ChoiceField from '../../widgets/ChoiceField.vue'

/** An outlook handed over: as a file, at an address, in a table of a database, as what was learned. */
const props = defineProps<{ outlook: Shapes['OutlookView'] }>()
const FORMATS = ['csv', 'parquet', 'xlsx', 'json', 'arrow'] as const
const FORMS = [
  { value: 'long', label: 'a row per series and time' },
  { value: 'wide', label: 'a row per time' },
] as const
const form = ref<'long' | 'wide'>('long')
const address = computed(() => `/api/v1/outlooks/${props.outlook.id}`)
const whole = computed(() => `${location.origin}${address.value}/table`)
const said = ref('')
const { data: sources } = useAnswer(
  'connections',
  () => ({}),
  (_, signal): Promise<Shapes['ConnectionList']> => unwrap(client.GET('/api/v1/connections', { signal })),
  { aside: true },
)
const databases = computed(() =>
  (sources.value?.connections ?? []).filter((each) => each.writes).map((each) => each.name),
)
const WAYS = [
  { value: 'create', label: 'make the table' },
  { value: 'replace', label: 'replace what is in it' },
  { value: 'append', label: 'append' },
] as const
const target = reactive<{
  connection: string
  table: string
  schema_name: string
  way: 'create' | 'replace' | 'append'
}>({
  connection: '',
  table: 'outlook',
  schema_name: 'public',
  way: 'create',
})
const connection = computed(() => target.connection || (databases.value[0] ?? ''))
async function write() {
  const params = { path: { outlook_id: props.outlook.id } }
  const body = { ...target, connection: connection.value }
  const done = await attempt(() =>
    unwrap(client.POST('/api/v1/outlooks/{outlook_id}/written', { params, body })),
  )
  said.value = done
    ? `${counted(done.rows, 'row')} are in ${done.table}; the newest of all in ${done.view}.`
    : ''
}
async function copy() {
  await navigator.clipboard.writeText(whole.value)
  said.value = 'The address is copied: JSON, CSV or Arrow, as the request accepts.'
}
</script>

<template>
  <section class="over">
    <label>Table <ChoiceField v-model="form" label="Table" :options="FORMS" /></label>
    <div class="buttons">
      <a
        v-for="each in FORMATS"
        :key="each"
        class="button away"
        :href="`${address}/table?format=${each}&form=${form}`"
        download
        >{{ each.toUpperCase() }}</a
      >
    </div>
    <div class="buttons">
      <button class="button" @click="copy">Copy its address</button>
      <a
        class="button away"
        :href="`${address}/learned`"
        download
        v-tip="'For proteron forecast --using, and load_learned'"
        >What was learned</a
      >
    </div>
    <form v-if="databases.length" class="write" @submit.prevent="write">
      <label
        >Database
        <ChoiceField
          :model-value="connection"
          label="Database"
          :options="databases"
          @update:model-value="target.connection = $event"
      /></label>
      <label>Its table <input v-model="target.table" class="field" aria-label="Its table" /></label>
      <label>Schema <input v-model="target.schema_name" class="field" aria-label="Schema" /></label>
      <label>What is there <ChoiceField v-model="target.way" label="What is there" :options="WAYS" /></label>
      <button class="button" :disabled="!target.table">Write the table</button>
    </form>
    <p v-else-if="sources" class="second">The server's configuration names no database to write to.</p>
    <p v-if="said" class="second" role="status">{{ said }}</p>
  </section>
</template>

<style scoped>
.over,
.write {
  display: grid;
  gap: 8px;
}
.write {
  grid-template-columns: 1fr 1fr;
}
.write .button {
  grid-column: 1 / -1;
}
label {
  display: grid;
  gap: 4px;
  color: var(--ink-2);
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
.away {
  display: inline-flex;
  align-items: center;
  text-decoration: none;
  color: inherit;
}
p {
  margin: 0;
}
</style>
