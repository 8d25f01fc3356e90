/** What a settings model's JSON schema says of its fields. */
export interface Field {
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
  /** Which values of which other fields this one is there for; none: for all. */
  where: Record<string, unknown[]>
}
export type Schema = Record<string, unknown> & {
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

/** Whether the items of a list may be words. */
const wordy = (items: Schema | undefined) =>
  [items, ...(items?.anyOf ?? [])].some((each) => each?.type === 'string')

/** One field as it is to be filled in. */
export function describe(name: string, schema: Schema): Field {
  const parts = [schema, ...(schema.anyOf ?? [])]
  const options = parts.flatMap((part) => part.enum ?? [])
  const types = parts.map((part) => part.type)
  const numeric = types.includes('integer') || types.includes('number')
  let kind: Field['kind'] = 'number'
  const list = parts.find((part) => part.type === 'array')
  if (types.includes('boolean')) kind = types.includes('null') ? 'maybe' : 'flag'
  else if (list) kind = list.prefixItems ? 'tuple' : wordy(list.items) ? 'words' : 'list'
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
    where: (schema.where ?? {}) as Record<string, unknown[]>,
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

/** "1-3, -2.5": numbers with their sign, runs of whole ones from their ends; NaN for what is none. */
export function numbersOf(text: string): number[] {
  const tokens = text
    .replaceAll('−', '-')
    .split(/[\s,;]+/)
    .filter(Boolean)
  return tokens.flatMap((token) => {
    const run = /^(\d+)-(\d+)$/.exec(token)
    if (!run) return [Number(token)]
    const [first, last] = [Number(run[1]), Number(run[2])]
    return Array.from({ length: Math.max(last - first + 1, 0) }, (_, i) => first + i)
  })
}
