<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'
import Select from 'primevue/select'
import { computed, ref } from 'vue'

/** A form drawn from a settings model's JSON schema: the model is the only description. */
const props = defineProps<{
  schema: Record<string, unknown>
  modelValue: Record<string, unknown>
  skip?: string[]
}>()
const emit = defineEmits<{ 'update:modelValue': [value: Record<string, unknown>] }>()

interface Field {
  name: string
  title: string
  help: string
  kind: 'choice' | 'number' | 'integer' | 'list' | 'tuple' | 'words' | 'mixed' | 'flag' | 'maybe'
  options: string[]
  least?: number
  most?: number
  fallback: unknown
  unit: string
  group: string
  advanced: boolean
}
type Schema = Record<string, unknown> & {
  anyOf?: Schema[]
  enum?: string[]
  type?: string
  minimum?: number
  maximum?: number
  exclusiveMinimum?: number
  exclusiveMaximum?: number
  prefixItems?: Schema[]
  items?: Schema
}

/** Fields by their group, in the order groups first appear; advanced ones apart. */
const groups = computed(() => {
  const plain = fields.value.filter((field) => !field.advanced)
  const names = [...new Set(plain.map((field) => field.group))]
  return [
    ...names.map((name) => ({
      name,
      folded: false,
      fields: plain.filter((field) => field.group === name),
    })),
    { name: 'Advanced', folded: true, fields: fields.value.filter((field) => field.advanced) },
  ].filter((group) => group.fields.length)
})
const open = ref(false)

const fields = computed<Field[]>(() => {
  const properties = (props.schema.properties ?? {}) as Record<string, Schema>
  const hidden = ['schema_version', 'plan', 'version', ...(props.skip ?? [])]
  return Object.entries(properties)
    .filter(([name, schema]) => schema.const === undefined && !hidden.includes(name))
    .map(([name, schema]) => describe(name, schema))
})

function describe(name: string, schema: Schema): Field {
  const parts = [schema, ...(schema.anyOf ?? [])]
  const options = parts.flatMap((part) => part.enum ?? [])
  const types = parts.map((part) => part.type)
  const numeric = types.includes('integer') || types.includes('number')
  let kind: Field['kind'] = 'number'
  const list = parts.find((part) => part.type === 'array')
  if (types.includes('boolean')) kind = types.includes('null') ? 'maybe' : 'flag'
  else if (list) kind = list.prefixItems ? 'tuple' : list.items?.type === 'string' ? 'words' : 'list'
  else if (options.length && numeric) kind = 'mixed'
  else if (options.length) kind = 'choice'
  else if (types.includes('integer')) kind = 'integer'
  return {
    name,
    title: String(schema.title ?? name),
    help: String(schema.description ?? ''),
    kind,
    options,
    least: bound(parts, 'minimum', 'exclusiveMinimum', kind === 'integer' ? 1 : SMALLEST),
    most: bound(parts, 'maximum', 'exclusiveMaximum', kind === 'integer' ? -1 : -SMALLEST),
    fallback: schema.default,
    unit: String(schema.unit ?? ''),
    group: String(schema.group ?? ''),
    advanced: Boolean(schema.advanced),
  }
}

const SMALLEST = 1e-6
/** A bound as the first value that is allowed. */
function bound(
  parts: Schema[],
  inclusive: 'minimum' | 'maximum',
  exclusive: 'exclusiveMinimum' | 'exclusiveMaximum',
  nudge: number,
): number | undefined {
  const end = parts.find((part) => part[inclusive] !== undefined)?.[inclusive]
  if (end !== undefined) return end
  const open = parts.find((part) => part[exclusive] !== undefined)?.[exclusive]
  return open === undefined ? undefined : open + nudge
}

const valueOf = (field: Field) => props.modelValue[field.name] ?? field.fallback ?? null
const numberOf = (field: Field) => valueOf(field) as number | null
/** A field that loses the focus to another form's says so once more: what is not of this form, or the same, is nothing. */
function set(name: string, value: unknown) {
  const field = fields.value.find((each) => each.name === name)
  if (field && valueOf(field) !== value) emit('update:modelValue', { ...props.modelValue, [name]: value })
}
/** "1-3, -2.5": numbers with their sign, runs of whole ones from their ends. What is no number stays in the text. */
function setList(name: string, text: string) {
  const tokens = text
    .replaceAll('−', '-')
    .split(/[\s,;]+/)
    .filter(Boolean)
  const numbers = tokens.flatMap((token) => {
    const run = /^(\d+)-(\d+)$/.exec(token)
    if (!run) return [Number(token)]
    const [first, last] = [Number(run[1]), Number(run[2])]
    return Array.from({ length: Math.max(last - first + 1, 0) }, (_, i) => first + i)
  })
  wrong.value = numbers.every(Number.isFinite) ? '' : name
  if (!wrong.value) set(name, numbers)
}
const wrong = ref('')
/** "1, , 2" as numbers with what is left to be chosen as null; nothing at all is null. */
function setTuple(field: Field, text: string) {
  const parts = text
    .replace(/[()]/g, '')
    .replaceAll('−', '-')
    .split(',')
    .map((each) => each.trim())
  const numbers = parts.map((each) => (each && Number.isFinite(Number(each)) ? Number(each) : null))
  set(field.name, numbers.some((each) => each !== null) ? numbers : null)
}
const setWords = (name: string, text: string) =>
  set(
    name,
    text
      .split(',')
      .map((each) => each.trim())
      .filter(Boolean),
  )
const setMaybe = (name: string, text: string) => set(name, text === 'chosen' ? null : text === 'yes')
function setMixed(field: Field, text: string) {
  const number = Number(text.replaceAll('−', '-'))
  const given = text.trim() && Number.isFinite(number) ? number : field.fallback
  set(field.name, field.options.includes(text) ? text : given)
}
</script>

<template>
  <div class="form">
    <template v-for="group in groups" :key="group.name">
      <button
        v-if="group.folded"
        type="button"
        class="link group"
        :aria-expanded="open"
        @click="open = !open"
      >
        {{ open ? '− Advanced' : '+ Advanced' }}
      </button>
      <h3 v-else-if="group.name" class="group second">{{ group.name }}</h3>
      <template v-if="!group.folded || open">
        <label v-for="field in group.fields" :key="field.name" :title="field.help">
          <span class="second"
            >{{ field.title }}<template v-if="field.unit">, {{ field.unit }}</template></span
          >
          <Select
            v-if="field.kind === 'choice'"
            :model-value="valueOf(field)"
            :options="field.options"
            size="small"
            @update:model-value="set(field.name, $event)"
          />
          <input
            v-else-if="field.kind === 'flag'"
            type="checkbox"
            :checked="Boolean(valueOf(field))"
            @change="set(field.name, ($event.target as HTMLInputElement).checked)"
          />
          <select
            v-else-if="field.kind === 'maybe'"
            class="field"
            :value="valueOf(field) === null ? 'chosen' : valueOf(field) ? 'yes' : 'no'"
            @change="setMaybe(field.name, ($event.target as HTMLSelectElement).value)"
          >
            <option>chosen</option>
            <option>yes</option>
            <option>no</option>
          </select>
          <input
            v-else-if="field.kind === 'tuple'"
            class="field number"
            placeholder="chosen"
            :value="((valueOf(field) as (number | null)[]) ?? []).map((each) => each ?? '').join(', ')"
            @change="setTuple(field, ($event.target as HTMLInputElement).value)"
          />
          <input
            v-else-if="field.kind === 'words'"
            class="field"
            placeholder="none"
            :value="((valueOf(field) as string[]) ?? []).join(', ')"
            @change="setWords(field.name, ($event.target as HTMLInputElement).value)"
          />
          <input
            v-else-if="field.kind === 'list'"
            class="field number"
            placeholder="chosen"
            :aria-invalid="wrong === field.name"
            :title="wrong === field.name ? 'Numbers separated by commas, such as 1-3, 24' : field.help"
            :value="((valueOf(field) as number[]) ?? []).join(', ')"
            @change="setList(field.name, ($event.target as HTMLInputElement).value)"
          />
          <template v-else-if="field.kind === 'mixed'">
            <input
              class="field number"
              :list="`options-${field.name}`"
              :value="valueOf(field)"
              @change="setMixed(field, ($event.target as HTMLInputElement).value)"
            />
            <datalist :id="`options-${field.name}`">
              <option v-for="option in field.options" :key="option" :value="option" />
            </datalist>
          </template>
          <InputNumber
            v-else
            class="number"
            :model-value="numberOf(field)"
            :min="field.least"
            :max="field.most"
            :max-fraction-digits="field.kind === 'integer' ? 0 : 6"
            :use-grouping="false"
            :placeholder="field.fallback == null ? 'chosen' : undefined"
            size="small"
            fluid
            @update:model-value="set(field.name, $event)"
          />
        </label>
      </template>
    </template>
  </div>
</template>

<style scoped>
.form {
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.group {
  margin: 6px 0 0;
  align-self: start;
  font-size: 12px;
  font-weight: 400;
}
input[aria-invalid='true'] {
  border-color: var(--worse);
}
label {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 132px;
  gap: 8px;
  align-items: center;
}
.field {
  width: 100%;
}
input[type='checkbox'] {
  justify-self: end;
}
:deep(input:not([type='checkbox'])) {
  font-family: var(--numbers);
  text-align: right;
  height: 28px;
}
</style>
