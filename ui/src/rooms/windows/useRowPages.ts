import { computed, ref, shallowRef, watch } from 'vue'
import { client, type Shapes, unwrap } from '../../api/client'
import { askOnce } from '../../state/answers'
import { useProject, type Choices } from '../../state/project'
import { readFilters, type Plan } from './planText'
import { PAGE } from './useWindowTable'

/** Rows of a window table by pages, as they come into view; in another order, or only some of them, where asked. */
export function useRowPages(props: {
  table: Shapes['WindowsView']
  plan: Plan
  chain: NonNullable<Choices['chain']>
  until: number
  series: number | null
}) {
  const store = useProject()
  const names = computed(() => [...props.table.names, ...props.table.target_names])
  const pages = shallowRef(new Map<number, Shapes['WindowsView']>())
  const asked = new Set<number>()
  let generation = 0

  const sort = ref<{ column: string; descending: boolean } | null>(null)
  const filterText = ref('')
  const filterComplaint = ref('')
  const where = shallowRef<{ column: string; low: number | null; high: number | null }[]>([])
  const total = ref(0)

  function begin() {
    generation += 1
    asked.clear()
    pages.value = new Map()
    if (sort.value || where.value.length) return void need(0)
    // The page around the cutoff came with the table.
    total.value = props.table.total
    if (props.table.rows.length) {
      const page = Math.floor(props.table.offset / PAGE)
      asked.add(page)
      pages.value = new Map([[page, props.table]])
    }
  }
  watch(
    () => props.table,
    (table) => {
      const names = new Set(['origin', ...table.names, ...table.target_names])
      if (sort.value && !names.has(sort.value.column)) sort.value = null
      if (where.value.some((each) => !names.has(each.column))) where.value = []
      begin()
    },
    { immediate: true },
  )
  watch([sort, where], begin)

  const body = (offset: number, limit: number, find: number | null) => ({
    plan: props.plan,
    chain: props.chain,
    until: props.until,
    series: props.series,
    offset,
    limit,
    find,
    sort: sort.value,
    where: where.value,
    span: null,
  })
  async function ask(offset: number, limit: number, find: number | null) {
    if (!store.dataset) return undefined
    const all = { params: { path: { dataset_id: store.dataset.id } }, body: body(offset, limit, find) }
    return askOnce(['window rows', all], (signal) =>
      unwrap(client.POST('/api/v1/datasets/{dataset_id}/windows', { ...all, signal })),
    ).catch(() => undefined)
  }
  async function need(page: number) {
    if (asked.has(page)) return
    asked.add(page)
    const mine = generation
    const answer = await ask(page * PAGE, PAGE, null)
    if (mine !== generation) return
    if (!answer) return void asked.delete(page)
    total.value = answer.total
    pages.value = new Map(pages.value).set(page, answer)
  }
  const rowOf = (index: number) => {
    const page = pages.value.get(Math.floor(index / PAGE))
    const at = index % PAGE
    const position = page?.positions[at]
    if (!page || position === undefined) return null
    return { cells: page.rows[at] ?? [], time: page.times[at] ?? 0, position, series: page.series[at] ?? 0 }
  }

  function order(column: string) {
    const now = sort.value
    if (now?.column !== column) sort.value = { column, descending: true }
    else sort.value = now.descending ? { column, descending: false } : null
  }
  function filter() {
    const read = readFilters(filterText.value, ['origin', ...names.value], (text) => {
      const time = store.axis?.parse(text)
      return time === null || time === undefined ? null : (store.axis?.position(time) ?? null)
    })
    filterComplaint.value = typeof read === 'string' ? read : ''
    if (typeof read !== 'string') where.value = read
  }
  return { pages, names, sort, filterText, filterComplaint, where, total, ask, need, rowOf, order, filter }
}
