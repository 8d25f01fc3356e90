import { computed, onScopeDispose, ref, watch } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../../../api/client'
import { count } from '../../../state/format'
import { send } from '../../../api/upload'
import { useAnswer } from '../../../state/answers'
import { useProject } from '../../../state/project'
import { useView } from '../../../state/view'
import { blendOf, byName } from './blends'
import { useCosts } from './useCosts'
import type { Design } from './foldEdits'

export type Entry = Shapes['NewExperiment']['contenders'][number]

/** Names differ: what is taken gets a number. */
function freeName(wanted: string, taken: string[]): string {
  let name = wanted
  const numbered = /\d$/.test(wanted)
  for (let i = 2; taken.includes(name); i++) name = numbered ? `${wanted} (${i})` : `${wanted} ${i}`
  return name
}

/** An experiment that is being laid out, or a copy of one to vary, and what it would come to. */
export function useLayout(source: Shapes['ExperimentView'] | null) {
  const store = useProject()
  const view = useView()
  const season = Math.round(store.axis?.grid.seasons[0] ?? 1)
  const horizon = season > 1 ? Math.min(season * 2, Math.floor((store.axis?.end ?? 100) / 20) || 1) : 6
  const name = ref(source ? `${source.name}, varied` : 'first look')
  const seed = ref(source?.seed ?? 1)
  // A copy starts from the very settings of its source, not from what became of them.
  const design = ref<Design>(source ? { ...source.design } : { kind: 'expanding', count: 8, horizon, gap: 0 })
  const chosenMetrics = ref(source?.metrics)
  const metrics = computed({
    get: () => chosenMetrics.value ?? store.catalogue?.default_metrics ?? [], // the catalogue may come later
    set: (now) => (chosenMetrics.value = now),
  })
  const entries = ref<Entry[]>(
    source
      ? byName(JSON.parse(JSON.stringify(source.contenders.map((each) => each.document))) as Entry[])
      : ([
          ...(season > 1
            ? [{ name: 'same season last cycle', forecaster: { kind: 'seasonal_last_value' }, chain: [] }]
            : []),
          { name: 'last value', forecaster: { kind: 'last_value' }, chain: [] },
          { name: 'drift', forecaster: { kind: 'drift' }, chain: [] },
          { name: 'mean so far', forecaster: { kind: 'mean' }, chain: [] },
          { name: 'Ridge on windows', forecaster: { kind: 'ridge' }, chain: store.choices.chain ?? [] },
          {
            name: 'Dense on windows',
            forecaster: { kind: 'dense_network' },
            chain: store.choices.chain ?? [],
          },
        ] as Entry[]),
  )
  const baseline = ref(source?.baseline ?? entries.value[0]?.name ?? '')

  const costs = useCosts(store.dataset?.id ?? 0, view.series, view.cutoff)
  const learns = (each: Entry) => each.forecaster.kind !== 'blend' // a blend learns nothing but weights
  watch(entries, (now) => now.filter(learns).forEach((each) => costs.want(each, true)), { immediate: true })

  const prospect = useAnswer(
    'prospect',
    () =>
      store.dataset && {
        params: { path: { dataset_id: store.dataset.id } },
        body: {
          folds: design.value,
          seed: seed.value,
          ...(source ? { levels: source.levels } : {}),
          contenders: entries.value,
          rates: costs.rates(entries.value),
        } as unknown as Shapes['ProspectBody'],
      },
    (asked, signal): Promise<Shapes['ProspectView']> =>
      unwrap(client.POST('/api/v1/datasets/{dataset_id}/prospect', { ...asked, signal })),
    // Cells of the source that come in meanwhile are there.
    source
      ? { live: () => `experiment ${source.id}`, tick: () => store.tick(`experiment ${source.id}`), rest: 8 }
      : {},
  )
  const laid = computed(() => ({
    design: design.value,
    folds: [...(prospect.data.value?.folds ?? []), ...(prospect.data.value?.sealed ?? [])],
  }))

  /** What the line cannot mean; the line stays as it was typed. */
  const lineProblem = ref('')
  async function say(line: string) {
    if (!store.dataset) return
    const params = { path: { dataset_id: store.dataset.id } }
    try {
      const body = { line } as unknown as Shapes['ProspectBody']
      const told = await unwrap(client.POST('/api/v1/datasets/{dataset_id}/prospect', { params, body }))
      lineProblem.value = ''
      design.value = told.design as unknown as Design
    } catch (error) {
      lineProblem.value = (error as Error).message
    }
  }
  watch(design, () => (lineProblem.value = ''))

  const laidAside = new Map<string, Entry[]>()
  /** Enter these beside `others`; a name that is taken gets a number. Returns the last one's. */
  function enterAll(more: Entry[], others: Entry[] = entries.value): string {
    const all = [...others]
    for (const each of more) {
      const taken = all.map((other) => other.name)
      all.push({ ...each, name: freeName(each.name, taken) })
    }
    entries.value = all
    return all[all.length - 1]?.name ?? ''
  }
  const titleOf = (kind: string) => String(store.catalogue?.forecasters[kind]?.title ?? kind)
  function enter(kind: string) {
    const plain = { name: titleOf(kind), forecaster: { kind }, chain: [] } as unknown as Entry
    enterAll(laidAside.get(kind) ?? [plain])
    laidAside.delete(kind)
  }
  function leave(kind: string) {
    const mine = entries.value.filter((each) => each.forecaster.kind === kind)
    laidAside.set(kind, mine)
    entries.value = entries.value.filter((each) => !mine.includes(each))
  }
  function change(index: number, what: Partial<Entry>) {
    const before = entries.value[index]
    if (what.name !== undefined && before?.name === baseline.value) baseline.value = what.name
    const changed = entries.value.map((each, i) => (i === index ? { ...each, ...what } : each))
    const renamed = before && what.name !== undefined ? { from: before.name, to: what.name } : undefined
    entries.value = byName(changed, renamed)
  }
  const remove = (index: number) => (entries.value = entries.value.filter((_, i) => i !== index))
  watch(entries, (now) => {
    if (!now.some((each) => each.name === baseline.value)) baseline.value = now[0]?.name ?? ''
  })
  /** Enter variants of a contender, in place of it where it stood. */
  async function vary(entry: Entry, values: Record<string, unknown[]>): Promise<boolean> {
    const body = { contender: entry, values } as unknown as Shapes['VariantsBody']
    const found = await attempt(() => unwrap(client.POST('/api/v1/variants', { body })))
    if (!found) return false
    enterAll(
      found.contenders as unknown as Entry[],
      entries.value.filter((each) => each.name !== entry.name),
    )
    return true
  }

  /** Enter a blend of all learners that are entered; its place. */
  function blend(): number {
    const group = (kind: string) => store.catalogue?.forecasters[kind]?.group
    enterAll([blendOf(entries.value, (kind) => group(kind) === 'baseline')])
    return entries.value.length - 1
  }

  /** What is to be known of forecasts that were brought. */
  const brought = ref('')
  /** Enter a table of forecasts that were made elsewhere. */
  async function bring(file: File) {
    const dataset = store.dataset
    if (!dataset) return
    const found = await attempt(async () => {
      const sent = await send(file, file.name)
      return unwrap(
        client.POST('/api/v1/uploads/{upload_id}/forecasts', {
          params: { path: { upload_id: sent.upload_id } },
          body: { dataset_id: dataset.id },
        }),
      )
    })
    if (!found) return
    const called = enterAll([found.contender as unknown as Entry])
    brought.value = [
      `${called}: ${count(found.used)} of ${count(found.rows)} rows are used.`,
      ...found.notes,
    ].join(' ')
  }

  const starting = ref(false)
  async function start(): Promise<boolean> {
    if (!store.dataset || !store.project || starting.value) return false
    starting.value = true
    costs.hold() // the machine is for what runs now
    const body = {
      dataset_id: store.dataset.id,
      name: name.value,
      seed: seed.value,
      folds: design.value,
      metrics: metrics.value,
      ...(source ? { levels: source.levels } : {}),
      baseline: baseline.value,
      contenders: entries.value,
      run: true,
    } as unknown as Shapes['NewExperiment']
    const params = { path: { project_id: store.project.id } }
    const made = await attempt(() =>
      unwrap(client.POST('/api/v1/projects/{project_id}/experiments', { params, body })),
    )
    if (made) await store.reload()
    else costs.resume()
    starting.value = false
    return Boolean(made)
  }
  onScopeDispose(costs.hold)
  return {
    name, seed, design, metrics, entries, baseline, costs, prospect, laid, lineProblem, starting,
    brought, say, bring, enter, leave, change, remove, vary, blend, start, titleOf,
  } // prettier-ignore
}
export type Layout = ReturnType<typeof useLayout>
