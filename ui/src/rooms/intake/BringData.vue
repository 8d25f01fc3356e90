<script setup lang="ts">
import ProgressBar from 'primevue/progressbar'
import ChoiceField from '../../widgets/ChoiceField.vue'
import Textarea from 'primevue/textarea'
import { computed, ref, watch } from 'vue'
import { client, unwrap } from '../../api/client'
import { useAnswer } from '../../state/answers'

/** The ways data comes in: files, cells pasted or dropped, a source configured on the server, an earlier account. */
defineProps<{ busy: boolean; words: string; progress: number | null; account: boolean }>()
const emit = defineEmits<{ pick: []; from: [connection: string, query: string]; account: [] }>()
const { data: found } = useAnswer(
  'connections',
  () => ({}),
  (_, signal) => unwrap(client.GET('/api/v1/connections', { signal })),
)
const connections = computed(() => found.value?.connections ?? [])
const chosen = ref('')
const query = ref('')
watch(connections, (now) => (chosen.value ||= now[0]?.name ?? ''), { immediate: true })
const kind = (name: string) => connections.value.find((each) => each.name === name)?.kind
</script>

<template>
  <div class="bring panel">
    <template v-if="busy">
      <ProgressBar
        class="progress"
        :mode="progress === null ? 'indeterminate' : 'determinate'"
        :value="100 * (progress ?? 0)"
        :show-value="false"
        aria-label="Reading"
      />
      <p class="second">{{ words }}</p>
    </template>
    <template v-else>
      <h1>Bring data in</h1>
      <p class="second">
        Drop files here, paste cells, or choose files: delimited text, JSON, Parquet, Arrow, XLSX and ODS,
        also compressed. Rows may be long (time, key, value), one column per series, or raw events.
      </p>
      <div class="row">
        <button class="button primary" @click="emit('pick')">Choose files</button>
        <button class="button" :aria-pressed="account" @click="emit('account')">
          {{ account ? 'An account is loaded: choose the new delivery' : 'Apply an account' }}
        </button>
      </div>
      <form v-if="connections.length" @submit.prevent="emit('from', chosen, query)">
        <label class="second"
          >or from
          <ChoiceField
            v-model="chosen"
            label="Configured source"
            :options="connections.map((each) => each.name)"
          />
        </label>
        <Textarea
          v-if="kind(chosen) === 'sql'"
          v-model="query"
          class="field number"
          rows="4"
          aria-label="Query"
          placeholder="SELECT time, key, value FROM …"
        />
        <button class="button" :disabled="kind(chosen) === 'sql' && !query.trim()">Fetch</button>
      </form>
    </template>
  </div>
</template>

<style scoped>
.bring {
  flex: 1;
  display: flex;
  flex-direction: column;
  align-items: center;
  justify-content: center;
  gap: 8px;
}
.progress {
  width: 320px;
}
p {
  max-width: 480px;
  text-align: center;
  margin: 0 0 8px;
}
.row {
  display: flex;
  gap: 8px;
}
form {
  display: flex;
  flex-direction: column;
  gap: 8px;
  width: 480px;
  margin-top: 12px;
}
</style>
