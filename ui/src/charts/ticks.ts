/** Ticks with labels that are right: one form per axis, the decimals the step needs, nothing that collides or clips. */

export interface Tick {
  at: number
  text: string
}

/** Ticks of a number axis; labels tell what is added to `offset`, in `unit`. */
export interface NumberTicks {
  ticks: Tick[]
  step: number
  offset: number
  unit: number
  /** What is to be said beside the axis: “from 1000000” where labels count from there. */
  note: string
}

/** Width of a character of the numbers' font at 12 px. */
export const CHARACTER = 7.2
/** Characters a label of a vertical axis may have. */
export const LONGEST = 7
const UNITS: [number, string][] = [
  [1, ''],
  [1e3, 'k'],
  [1e6, 'M'],
  [1e9, 'G'],
  [1e12, 'T'],
]

/** The least of 1, 2 and 5 times a power of ten that is not below `least`. */
export function roundStep(least: number): number {
  const power = 10 ** Math.floor(Math.log10(least))
  for (const lead of [1, 2, 5]) if (lead * power >= least * (1 - 1e-9)) return lead * power
  return 10 * power
}

/** Multiples of `step` from low to high, without the error of adding up. */
function multiples(low: number, high: number, step: number): number[] {
  const out: number[] = []
  const last = Math.floor(high / step + 1e-9)
  for (let at = Math.ceil(low / step - 1e-9); at <= last && out.length < 200; at++) out.push(at * step)
  return out.map((each) => (each === 0 ? 0 : Number(each.toPrecision(15))))
}

const formats = new Map<number, Intl.NumberFormat>()
function plain(value: number, decimals: number): string {
  let format = formats.get(decimals)
  if (!format) {
    const digits = { minimumFractionDigits: decimals, maximumFractionDigits: decimals }
    format = new Intl.NumberFormat(undefined, { useGrouping: false, ...digits })
    formats.set(decimals, format)
  }
  const text = format.format(Math.abs(value))
  return value < 0 && /[1-9]/.test(text) ? `−${text}` : text
}

/** Decimals that tell multiples of a step apart: 0.25 needs two, 20 none. */
export function decimalsOf(step: number): number {
  for (let decimals = 0; decimals < 16; decimals++) {
    const scaled = step * 10 ** decimals
    if (Math.abs(scaled - Math.round(scaled)) < 1e-6 * scaled) return decimals
  }
  return 16
}

/** Labels of values that are multiples of a step, all in one form; null where none of at most `longest` fits. */
function inOneForm(values: number[], step: number, longest: number): string[] | null {
  const largest = Math.max(...values.map(Math.abs), 0)
  let best: string[] | null = null
  let least = longest + 1
  for (const [unit, name] of UNITS) {
    if (unit > 1 && largest < Math.max(unit, 1e4)) break
    const decimals = decimalsOf(step / unit)
    const texts = values.map((each) => plain(each / unit, decimals) + (each === 0 ? '' : name))
    const size = Math.max(...texts.map((each) => each.length))
    if (decimals < 16 && size < least) [best, least] = [texts, size]
  }
  return best
}

/**
 * Ticks between two values, at most `most` of them, whose labels have at most `longest` characters.
 *
 * Where numbers are long and differ little (1000000.001, 1000000.002) labels count from an offset that the note tells.
 */
export function numberTicks(low: number, high: number, most: number, longest = LONGEST): NumberTicks {
  if (!Number.isFinite(low) || !Number.isFinite(high) || !(high > low))
    return { ticks: [], step: 1, offset: 0, unit: 1, note: '' }
  // Steps finer than what a float can tell apart at this height would repeat labels.
  const finest = Math.max(Math.abs(low), Math.abs(high)) * 4e-15
  let step = roundStep(Math.max((high - low) / Math.max(most, 1), finest))
  let values = multiples(low, high, step)
  while (values.length > most) {
    step = roundStep(step * 1.5)
    values = multiples(low, high, step)
  }
  if (!values.length) return { ticks: [], step, offset: 0, unit: 1, note: '' }
  const texts = inOneForm(values, step, longest)
  if (texts) return { ticks: pair(values, texts), step, offset: 0, unit: 1, note: '' }
  const offset = values[Math.floor(values.length / 2)] as number
  const power = 10 ** Math.floor(Math.log10(step) + 1e-9)
  const apart = values.map((each) => Math.round((each - offset) / step))
  const inUnits = (unit: number) =>
    inOneForm(
      apart.map((each) => (Math.abs(each) * step) / unit),
      step / unit,
      longest - 1,
    )
  const unit = inUnits(1) ? 1 : power
  const rest = inUnits(unit) ?? apart.map((each) => plain(Math.abs(each), 0))
  const signed = apart.map((each, i) => (each > 0 ? '+' : each < 0 ? '−' : '') + (rest[i] ?? ''))
  const said = [offset && `from ${offset}`, unit !== 1 && `in ${unit.toExponential(0)}`].filter(Boolean)
  return { ticks: pair(values, signed), step, offset, unit, note: said.join(', ').replaceAll('-', '−') }
}

const pair = (values: number[], texts: string[]): Tick[] =>
  values.map((at, i) => ({ at, text: texts[i] ?? '' }))

/** Ticks of a logarithmic axis: powers of ten, with their doubles and fives while few are in view. */
export function logTicks(low: number, high: number, most: number): Tick[] {
  if (!(low > 0) || !(high > low)) return []
  const from = Math.floor(Math.log10(low))
  const to = Math.ceil(Math.log10(high))
  for (const leads of [[1, 2, 5], [1]]) {
    const every = leads.length > 1 ? 1 : Math.max(Math.ceil((to - from + 1) / Math.max(most, 1)), 1)
    const out: number[] = []
    for (let power = from; power <= to; power += every)
      for (const lead of leads) {
        const at = lead * 10 ** power
        if (at >= low * (1 - 1e-9) && at <= high * (1 + 1e-9)) out.push(at)
      }
    if (out.length <= most || leads.length === 1)
      return out.map((at) => ({
        at,
        text: inOneForm([at], at, 6)?.[0] ?? at.toExponential(0).replace('e+', 'e').replace('-', '−'),
      }))
  }
  return []
}

// time

const SECOND = 1
const MINUTE = 60
const HOUR = 3600
const DAY = 86400
const MONTH = 30.4375 * DAY
const YEAR = 365.25 * DAY
type Field = 'second' | 'minute' | 'hour' | 'day' | 'month' | 'year'
const STEPS: [Field, number, number][] = [
  ...[1, 5, 15, 30].map((n): [Field, number, number] => ['second', n, n * SECOND]),
  ...[1, 5, 15, 30].map((n): [Field, number, number] => ['minute', n, n * MINUTE]),
  ...[1, 3, 6, 12].map((n): [Field, number, number] => ['hour', n, n * HOUR]),
  ...[1, 2, 7, 14].map((n): [Field, number, number] => ['day', n, n * DAY]),
  ...[1, 3, 6].map((n): [Field, number, number] => ['month', n, n * MONTH]),
  ...[1, 2, 5, 10, 20, 50, 100, 200, 500].map((n): [Field, number, number] => ['year', n, n * YEAR]),
]
/** Characters of the widest label by field, where several days are in view and not. */
const WIDEST: Record<Field, number> = { second: 8, minute: 9, hour: 10, day: 10, month: 8, year: 4 }
const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']
const DAYS = ['Sun', 'Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat']

const clocks = new Map<string, Intl.DateTimeFormat>()
/** The clock on the wall of a zone, as if it were UTC, in seconds. */
export function wallOf(time: number, zone: string): number {
  if (zone === 'UTC') return time
  let clock = clocks.get(zone)
  if (!clock) {
    const fields = {
      year: 'numeric',
      month: 'numeric',
      day: 'numeric',
      hour: 'numeric',
      minute: 'numeric',
    } as const
    clock = new Intl.DateTimeFormat('en-GB', {
      timeZone: zone,
      hourCycle: 'h23',
      second: 'numeric',
      ...fields,
    })
    clocks.set(zone, clock)
  }
  const whole = Math.floor(time)
  const told: Record<string, number> = {}
  for (const part of clock.formatToParts(new Date(whole * 1000))) told[part.type] = Number(part.value)
  const { year = 0, month = 1, day = 1, hour = 0, minute = 0, second = 0 } = told
  return Date.UTC(year, month - 1, day, hour, minute, second) / 1000 + (time - whole)
}

/** The time at which a clock of the zone shows `wall`; where it is skipped, the moment after. */
export function timeOf(wall: number, zone: string): number {
  const guess = wall - (wallOf(wall, zone) - wall)
  return wall - (wallOf(guess, zone) - guess)
}

/** The first place on the clock at or after `wall` that is a multiple of `n` fields, and the one after a place. */
function begin(wall: number, field: Field, n: number): number {
  const date = new Date(wall * 1000)
  const [year, month] = [date.getUTCFullYear(), date.getUTCMonth()]
  if (field === 'year') return Date.UTC(Math.ceil(year / n) * n, 0) / 1000
  if (field === 'month') return Date.UTC(year, Math.ceil(month / n) * n) / 1000
  if (field === 'day') {
    const monday = 4 * DAY // 5 January 1970
    const from = n % 7 ? 0 : monday
    return from + Math.ceil((wall - from) / (n * DAY) - 1e-9) * n * DAY
  }
  const size = { second: SECOND, minute: MINUTE, hour: HOUR }[field] * n
  return Math.ceil(wall / size - 1e-9) * size
}
function after(wall: number, field: Field, n: number): number {
  const date = new Date(wall * 1000)
  if (field === 'year') return Date.UTC(date.getUTCFullYear() + n, 0) / 1000
  if (field === 'month') return Date.UTC(date.getUTCFullYear(), date.getUTCMonth() + n) / 1000
  return wall + n * { second: SECOND, minute: MINUTE, hour: HOUR, day: DAY }[field]
}

/** What a place on the clock is called, in the form its step deserves. */
function named(wall: number, field: Field, severalDays: boolean, whole: boolean): string {
  const date = new Date(wall * 1000)
  const two = (value: number) => String(value).padStart(2, '0')
  const year = String(date.getUTCFullYear())
  const month = MONTHS[date.getUTCMonth()] ?? ''
  const weekday = DAYS[date.getUTCDay()] ?? ''
  if (field === 'year') return year
  if (field === 'month') return `${month} ${year}`
  const day = `${date.getUTCDate()} ${month}`
  if (field === 'day') return whole ? `${day} ${year}` : `${weekday} ${day}`
  const seconds = field === 'second' ? `:${two(date.getUTCSeconds())}` : ''
  const clock = `${two(date.getUTCHours())}:${two(date.getUTCMinutes())}${seconds}`
  if (whole) return `${day} ${year} ${clock}`
  if (severalDays && clock === '00:00') return `${weekday} ${day}`
  return severalDays ? `${weekday} ${clock}` : clock
}

/**
 * Ticks of a time axis of `width` pixels in a zone, at round places of its calendar.
 *
 * Labels stand in the middle of their tick; the first says the year too where there is room, and what would stick out
 * by more than `overhang` pixels on either side is left without a label.
 */
export function timeTicks(
  low: number,
  high: number,
  width: number,
  zone: string,
  overhang: number | [number, number] = 0,
): Tick[] {
  if (!(high > low) || !(width > 0)) return []
  const [overLeft, overRight] = typeof overhang === 'number' ? [overhang, overhang] : overhang
  const scale = width / (high - low)
  const found =
    STEPS.find(([field, , size]) => size * scale >= WIDEST[field] * CHARACTER + 14) ??
    (['year', 1000, 1000 * YEAR] as const)
  const [field, n] = found
  const severalDays = high - low > DAY && field !== 'second'
  const places: { at: number; wall: number }[] = []
  const last = wallOf(high, zone)
  for (
    let wall = begin(wallOf(low, zone), field, n);
    wall <= last && places.length < 400;
    wall = after(wall, field, n)
  ) {
    const at = timeOf(wall, zone)
    if (at >= low && at <= high && at > (places.at(-1)?.at ?? -Infinity))
      places.push({ at, wall: wallOf(at, zone) })
  }
  const fits = (x: number, text: string, room: number) => {
    const half = (text.length * CHARACTER) / 2
    return x - half >= -overLeft && x + half <= width + overRight && half * 2 + 8 <= room
  }
  let dated = field === 'month' || field === 'year'
  let taken = -overLeft
  return places.map(({ at, wall }, i) => {
    const x = (at - low) * scale
    const next = places[i + 1]
    const short = named(wall, field, severalDays, false)
    const half = (short.length * CHARACTER) / 2
    const room = Math.min(x - taken - 8, next ? (next.at - at) * scale - half - 8 : Infinity)
    const long = dated ? '' : named(wall, field, severalDays, true)
    taken = x + half
    if (long && fits(x, long, 2 * room)) {
      dated = true
      return { at, text: long }
    }
    return { at, text: fits(x, short, Infinity) ? short : '' }
  })
}
