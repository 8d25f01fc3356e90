import type { Entry } from './useLayout'

export type { Entry }
interface Member {
  name: string
  contender?: Record<string, unknown>
}
const membersOf = (entry: Entry) =>
  ((entry.forecaster as unknown as { members?: Member[] }).members ?? []) as Member[]

/** Of whom a blend is made, by name; nobody for any other entrant. */
export const memberNames = (entry: Entry) =>
  entry.forecaster.kind === 'blend' ? membersOf(entry).map((each) => each.name) : []

/** A blend's forecaster with other members; those it knew keep what they were. */
export function withMembers(entry: Entry, names: string[]): Entry['forecaster'] {
  const known = new Map(membersOf(entry).map((each) => [each.name, each]))
  const members = names.map((name) => known.get(name) ?? { name })
  return { ...entry.forecaster, members } as unknown as Entry['forecaster']
}

/** Blends name members that are entered, so that these may be changed; `renamed` says who is called otherwise now. */
export function byName(entries: Entry[], renamed?: { from: string; to: string }): Entry[] {
  const entered = new Set(entries.map((each) => each.name))
  return entries.map((entry) => {
    if (entry.forecaster.kind !== 'blend') return entry
    const members = membersOf(entry).map((each) => {
      const name = each.name === renamed?.from ? renamed.to : each.name
      return entered.has(name) ? { name } : { ...each, name }
    })
    return { ...entry, forecaster: { ...entry.forecaster, members } as unknown as Entry['forecaster'] }
  })
}

/** A blend of all entrants that are neither naive nor blends. */
export function blendOf(entries: Entry[], naive: (kind: string) => boolean): Entry {
  const members = entries
    .filter((each) => each.forecaster.kind !== 'blend' && !naive(each.forecaster.kind ?? ''))
    .map((each) => ({ name: each.name }))
  return {
    name: `blend of ${members.length}`,
    forecaster: { kind: 'blend', members },
    chain: [],
  } as unknown as Entry
}
