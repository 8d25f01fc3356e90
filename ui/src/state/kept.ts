import { ref } from 'vue'
import { attempt, client, unwrap, type Shapes } from '../api/client'
import { useProject } from './project'

/** What can be renamed, copied and deleted, as the addresses of the API call it. */
export type Kind = 'projects' | 'datasets' | 'experiments' | 'chains' | 'plans'
export interface Named {
  kind: Kind
  id: number
  name: string
  revision: number
}

const FIELD = {
  projects: 'project_id',
  datasets: 'dataset_id',
  experiments: 'experiment_id',
  chains: 'chain_id',
  plans: 'plan_id',
} as const

/** What was deleted last and can be taken back by one key; a click elsewhere does not lose it. */
export const undoable = ref<Shapes['KeptView'] | null>(null)

const path = (each: Named) => ({ [FIELD[each.kind]]: each.id }) as never
/** Who renames or deletes says which revision was seen, and is told where it is another by now. */
const seen = (each: Named) => ({ 'If-Match': `"${each.kind}-${each.id}-${each.revision}"` })
const address = (each: Named, rest = '') => `/api/v1/${each.kind}/{${FIELD[each.kind]}}${rest}` as never

/** Renaming, copying, deleting and restoring; lists are read anew after each. Undefined where it failed. */
export function useKept() {
  const store = useProject()

  async function done(asked: Promise<unknown>, gone = false): Promise<Shapes['KeptView'] | undefined> {
    const found = await attempt(() =>
      unwrap(asked as Promise<{ data?: Shapes['KeptView']; response: Response }>),
    )
    if (found && gone) undoable.value = found
    else if (found?.kind === undoable.value?.kind && found?.id === undoable.value?.id) undoable.value = null
    await Promise.all([store.reload(), store.loadList()])
    store.keptChanges++
    return found
  }
  const rename = (each: Named, name: string) =>
    done(
      client.PATCH(address(each), {
        params: { path: path(each), header: seen(each) },
        body: { name },
      } as never),
    )
  const copy = (each: Named) =>
    done(client.POST(address(each, '/copy'), { params: { path: path(each) }, body: {} } as never))
  const remove = (each: Named) =>
    done(client.DELETE(address(each), { params: { path: path(each), header: seen(each) } } as never), true)
  const restore = (each: Named) =>
    done(client.POST(address(each, '/restore'), { params: { path: path(each) } } as never))
  const undo = () => undoable.value && restore(undoable.value as Named)
  return { rename, copy, remove, restore, undo }
}
