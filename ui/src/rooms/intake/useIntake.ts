import { computed, ref, shallowRef } from 'vue'
import { client, unwrap, type Draft, type Shapes } from '../../api/client'
import { send } from '../../api/upload'
import { useProject } from '../../state/project'

type Whole = NonNullable<Shapes['PreviewBody']['recipe']>
export type Recipe = Draft<Whole>
export type Role = NonNullable<Whole['roles']>[string]

/** From what was brought to a dataset: uploads, the recipe, what it makes of them, and making it so. */
export function useIntake() {
  const store = useProject()
  const uploads = shallowRef<Shapes['Uploaded'][]>([])
  const preview = shallowRef<Shapes['Preview'] | null>(null)
  /** The same under one other remedy, so that its effect shows before it is taken. */
  const effect = shallowRef<{ id: string; remedy: string; line: Shapes['Line'] } | null>(null)
  const account = shallowRef<Record<string, unknown> | null>(null)
  const progress = ref<number | null>(null)
  const failure = ref('')
  /** How many works are on their way that nothing else may go beside. */
  const blocking = ref(0)
  const busy = computed(() => blocking.value > 0)
  const recipe = ref<Recipe>({})
  const series = ref<string | null>(null)
  const name = ref('')
  /** The part of the series that is shown, in grid positions; null is all of it. */
  const span = ref<[number, number] | null>(null)

  const told = (share: number) => (progress.value = share)

  async function guarded(work: () => Promise<void>, alone = true) {
    failure.value = ''
    if (alone) blocking.value += 1
    try {
      await work()
    } catch (error) {
      failure.value = error instanceof Error ? error.message : String(error)
    }
    if (alone) blocking.value -= 1
    progress.value = null
  }

  function begin(brought: Shapes['Uploaded'][]) {
    uploads.value = brought
    preview.value = effect.value = null
    series.value = span.value = null
    recipe.value = account.value ? {} : { zone: recipe.value.zone, unit: recipe.value.unit }
    name.value = (brought[0]?.name ?? 'data').replace(
      /(\.(csv|tsv|txt|jsonl?|parquet|arrow|xlsx|ods|gz|zst|zip))+$/i,
      '',
    )
  }

  const bring = (files: { content: Blob; name: string }[]) =>
    guarded(async () => {
      const brought = []
      for (const file of files) brought.push(await send(file.content, file.name, told))
      begin(brought)
      await look()
    })

  const fetchFrom = (connection: string, query: string) =>
    guarded(async () => {
      const body = { connection, query: query || null }
      begin([await unwrap(client.POST('/api/v1/uploads/fetch', { body }))])
      await look()
    })

  function body(given: Recipe = recipe.value) {
    return {
      recipe: given as Whole,
      more: uploads.value.slice(1).map((each) => each.upload_id),
      account: account.value,
    }
  }

  const params = () => ({ path: { upload_id: uploads.value[0]?.upload_id ?? '' } })

  async function ask(given: Recipe, about: string | null) {
    const [start, stop] = span.value ?? [null, null]
    const asked = { ...body(given), series: about, start, stop, project_id: store.project?.id ?? null }
    return unwrap(client.POST('/api/v1/uploads/{upload_id}/preview', { params: params(), body: asked }))
  }

  async function look() {
    const [of] = uploads.value
    if (!of) return
    const found = await ask(recipe.value, series.value)
    if (uploads.value[0] !== of) return
    preview.value = found
    effect.value = null
  }

  /** Look again; buttons stay live, so that a click that ends an edit is not lost. */
  const refresh = () => guarded(look, false)

  function change(changes: Partial<Recipe>) {
    recipe.value = { ...recipe.value, ...changes }
    return refresh()
  }

  const choose = (id: string, remedy: string) =>
    change({ remedies: { ...(recipe.value.remedies ?? {}), [id]: remedy } })

  /** Turn the chart to where a finding is; whether that is somewhere else than before. */
  function place(finding: Shapes['FindingView']): boolean {
    const first = finding.spans[0]
    if (!first) return false
    const room = Math.max(30, first.stop - first.start)
    const next: [number, number] = [Math.max(first.start - room, 0), first.stop + room]
    const same = series.value === first.key && span.value?.join() === next.join()
    series.value = first.key
    span.value = next
    return !same
  }

  /** What another remedy would make of the series the finding is about. */
  const tryOut = (finding: Shapes['FindingView'], remedy: string) =>
    guarded(async () => {
      const key = finding.spans[0]?.key ?? preview.value?.line_key ?? null
      if (finding.spans.length && place(finding)) preview.value = await ask(recipe.value, key)
      const remedies = { ...(recipe.value.remedies ?? {}), [finding.id]: remedy }
      const shown = await ask({ ...recipe.value, remedies }, key)
      if (shown.line) effect.value = { id: finding.id, remedy, line: shown.line }
      else failure.value = shown.problem?.detail ?? ''
    }, false)

  const make = () =>
    guarded(async () => {
      if (!uploads.value.length || !store.project) return
      const asked = { ...body(), project_id: store.project.id, name: name.value || 'data' }
      await unwrap(client.POST('/api/v1/uploads/{upload_id}/dataset', { params: params(), body: asked }))
      await store.reload()
      forget()
    })

  function forget() {
    uploads.value = []
    preview.value = effect.value = account.value = null
    failure.value = ''
    recipe.value = {}
  }

  return {
    uploads,
    preview,
    effect,
    account,
    progress,
    failure,
    busy,
    recipe,
    series,
    span,
    name,
    bring,
    fetchFrom,
    refresh,
    change,
    choose,
    place,
    tryOut,
    make,
    forget,
  }
}
