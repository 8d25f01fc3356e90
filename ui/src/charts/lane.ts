import type { Answer } from '../state/answers'
import { token } from '../theme/theme'

export interface Points {
  times: number[]
  values: (number | null)[]
}

export interface LaneSeries {
  label: string
  points: Points
  color: string
  width?: number
  /** How much it covers what is behind it, by default wholly. */
  alpha?: number
  dash?: number[]
  /** Not read out: one of many that are looked at together. */
  quiet?: boolean
  /** Draw single points when few are in view. */
  dots?: boolean
  /** Draw those points that have nothing beside them and would not show as a line. */
  lonely?: boolean
}

export interface LaneBand {
  label: string
  times: number[]
  low: (number | null)[]
  high: (number | null)[]
  color: string
  alpha: number
}

export interface Pennant {
  id: number
  start: number
  stop: number
  score: number
  kind: string
  verdict: string
}

/** What a lane is given. */
export interface LaneProps {
  name: string
  title?: string
  note?: string
  unit?: string
  series: LaneSeries[]
  bands?: LaneBand[]
  pennants?: Pennant[]
  /** A span that is looked at, times. */
  tinted?: [number, number] | null
  /** Whether the ends of that span may be dragged. */
  adjustable?: boolean
  /** Whether values after the known may be drawn by hand. */
  drawable?: boolean
  showTime?: boolean
  threshold?: number | null
  fromZero?: boolean
  busy?: boolean
  /** Where the lines come from: what is said while they are on their way, or cannot be had. */
  answer?: Answer | null
  /** Where the known ends, when it is not the cutoff (epoch seconds). */
  knownUntil?: number | null
  /** The observed line, for the dots of filled points. */
  filled?: { times: number[]; values: (number | null)[]; filled?: number[] } | null
}

/** Pixels left and right of every lane's plot, so that lanes, Strip and folds stand under each other. */
export const AXIS_WIDTH = 60
export const RIGHT = 16

/** Resolve `var(--x)` for canvases. */
export function paint(color: string): string {
  const match = /^var\(--([\w-]+)\)$/.exec(color)
  return match?.[1] ? token(match[1]) : color
}

/** Split observed values at the cutoff: known ones in ink, later ones thin and pale. */
export function splitAt(points: Points, cutoff: number): [Points, Points] {
  let at = points.times.findIndex((time) => time > cutoff)
  if (at < 0) at = points.times.length
  const from = Math.max(at - 1, 0)
  return [
    { times: points.times.slice(0, at), values: points.values.slice(0, at) },
    { times: points.times.slice(from), values: points.values.slice(from) },
  ]
}

export function observedSeries(points: Points, cutoff: number, label = 'observed'): LaneSeries[] {
  const [known, later] = splitAt(points, cutoff)
  return [
    { label, points: known, color: 'var(--ink)', width: 1.25, dots: true },
    { label: `${label}, later`, points: later, color: 'var(--ink-3)', width: 0.75 },
  ]
}

/** The value at or just before a time, null when there is none near. */
export function valueAt(points: Points, time: number, reach: number): number | null {
  const { times, values } = points
  let low = 0
  let high = times.length
  while (low < high) {
    const middle = (low + high) >> 1
    if ((times[middle] ?? 0) <= time) low = middle + 1
    else high = middle
  }
  const before = low - 1
  const near =
    before < 0 || (low < times.length && (times[low] ?? 0) - time < time - (times[before] ?? 0))
      ? low
      : before
  if (near < 0 || near >= times.length || Math.abs((times[near] ?? 0) - time) > reach) return null
  return values[near] ?? null
}
