import { useRoute, useRouter } from 'vue-router'
import { attempt } from '../api/client'
import { toggleTheme } from '../theme/theme'
import { roomActions } from './keys'
import { useKept } from './kept'
import { ROOMS, useProject } from './project'
import { useView } from './view'

export interface Command {
  text: string
  key?: string
  act: () => unknown
}

const PRESSED =
  'button, a[href], [role="tab"], [role="combobox"], input[type="checkbox"], input[type="radio"]'

/** What can be pressed on the page as it stands, by the names it gives itself. */
function pressable(): Command[] {
  const seen = new Set<string>()
  const out: Command[] = []
  for (const each of document.querySelectorAll<HTMLElement>(`.frame :is(${PRESSED})`)) {
    if ((each as HTMLButtonElement).disabled || !each.getClientRects().length) continue
    const said = each.getAttribute('aria-label') ?? each.closest('label')?.textContent ?? each.textContent
    const text = (said || each.title).replace(/\s+/g, ' ').trim()
    if (text.length < 2 || text.length > 80 || seen.has(text)) continue
    seen.add(text)
    const press = () => (each.matches('[role="combobox"]') ? each.focus() : each.click())
    out.push({ text: `Here: ${text}`, act: press })
  }
  return out
}

/** Everything that can be done now: rooms, the view, projects, series, a cutoff by date, whatever is on the page. */
export function useCommands(open: { kept: () => void; work: () => void; keys: () => void }) {
  const store = useProject()
  const view = useView()
  const router = useRouter()
  const route = useRoute()
  const { copy, remove } = useKept()
  const here = pressable()

  function views(): Command[] {
    return [
      { text: 'Run', key: 'r', act: () => roomActions.run?.() },
      { text: 'Stop', key: 'Esc', act: () => roomActions.stop?.() },
      { text: 'Show the whole series', key: '0', act: () => view.setSpan(...view.extent) },
      { text: 'Look around the cutoff', act: () => (view.span = view.around(view.cutoff)) },
      { text: 'Cutoff to the end of the data', act: () => view.setCutoff(store.axis?.end ?? 1, true) },
      { text: 'Cutoff by date: type it here, such as 2024-11-01', act: () => undefined },
      { text: 'Original or flattened units', key: 'u', act: () => (view.flat = !view.flat) },
      { text: 'Next series', key: '.', act: () => view.moveSeries(1) },
      { text: 'Previous series', key: ',', act: () => view.moveSeries(-1) },
      { text: 'Inspector', act: () => (view.inspector = !view.inspector) },
      { text: 'Day or night', act: () => toggleTheme() },
      { text: 'Everything kept: rename, copy, delete, restore', key: 'k', act: open.kept },
      { text: 'Running work', act: open.work },
      { text: 'Keys', key: '?', act: open.keys },
    ]
  }
  function projects(): Command[] {
    const mine = store.list.find((each) => each.id === store.project?.id)
    const named = mine && { ...mine, kind: 'projects' as const }
    return [
      { text: 'All projects', act: () => router.push('/?projects=1') },
      ...store.list.map((each) => ({
        text: `Open project ${each.name}`,
        act: () => router.push({ name: 'walkforward', params: { project: each.id } }),
      })),
      ...(named
        ? [
            { text: `Rename project ${named.name}`, act: open.kept },
            { text: `Copy project ${named.name}`, act: () => copy(named) },
            {
              text: `Delete project ${named.name}`,
              act: async () => (await remove(named)) && router.push('/?projects=1'),
            },
          ]
        : []),
    ]
  }
  /** What the words themselves ask for: a date is a cutoff, “new …” a project. */
  function typed(search: string): Command[] {
    const made = /^(?:new|create)(?: project)? (.+)$/i.exec(search.trim())
    if (made?.[1]) {
      const name = made[1]
      const act = async () => {
        const id = await attempt(() => store.create(name))
        if (id) await router.push({ name: 'intake', params: { project: id } })
      }
      return [{ text: `Create project ${name}`, act }]
    }
    const time = store.axis?.parse(search.trim().replace(/^cutoff\s+/i, ''))
    const axis = store.axis
    if (time === null || time === undefined || !axis) return []
    return [{ text: `Cutoff at ${axis.text(time)}`, act: () => view.setCutoff(axis.known(time), true) }]
  }
  const all = (): Command[] => [
    ...ROOMS.map((room, i) => ({
      text: `Go to ${room.title}`,
      key: String(i + 1),
      act: () =>
        store.project &&
        router.push({ name: room.name, params: { project: store.project.id }, query: route.query }),
    })),
    ...views(),
    ...projects(),
    ...(store.dataset?.series ?? []).map((each, index) => ({
      text: `Series ${each.key}`,
      act: () => (view.series = index),
    })),
    ...here,
  ]
  return { all, typed }
}
