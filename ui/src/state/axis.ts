import type { Shapes } from '../api/client'

const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

/** Grid positions and epoch seconds, both ways; times are shown in the dataset's zone. */
export class Axis {
  private readonly stamp: Intl.DateTimeFormat

  constructor(readonly grid: Shapes['Grid']) {
    this.stamp = new Intl.DateTimeFormat('en-GB', {
      timeZone: grid.zone,
      weekday: 'short',
      day: '2-digit',
      month: '2-digit',
      year: 'numeric',
      hour: '2-digit',
      minute: '2-digit',
      hour12: false,
    })
  }

  get end(): number {
    return this.grid.end
  }

  /** Epoch seconds of a grid position, also beyond the data. */
  time(position: number): number {
    const { start, seconds, times } = this.grid
    if (seconds) return start + position * seconds
    const known = times ?? []
    const last = known.length - 1
    if (position <= last) return known[Math.max(position, 0)] ?? start
    const step = last > 0 ? ((known[last] ?? start) - start) / last : 1
    return (known[last] ?? start) + (position - last) * step
  }

  /** The last grid position at or before a time. */
  position(time: number): number {
    const { start, seconds, times } = this.grid
    if (seconds) return Math.floor((time - start) / seconds + 1e-9)
    const known = times ?? []
    let low = 0
    let high = known.length
    while (low < high) {
      const middle = (low + high) >> 1
      if ((known[middle] ?? 0) <= time) low = middle + 1
      else high = middle
    }
    return low - 1
  }

  /** How many positions are known as of a time. */
  known(time: number): number {
    return Math.min(Math.max(this.position(time) + 1, 1), this.end)
  }

  private parts(time: number): Record<string, string> {
    return Object.fromEntries(
      this.stamp.formatToParts(new Date(time * 1000)).map((part) => [part.type, part.value]),
    )
  }

  /** A time as people read it: Tue 12 Mar 2024 06:00; whole days without the clock. */
  text(time: number): string {
    const p = this.parts(time)
    const day = `${p.weekday} ${p.day} ${MONTHS[Number(p.month) - 1]} ${p.year}`
    return this.hasClock ? `${day} ${p.hour}:${p.minute}` : day
  }

  /** A time as it is typed: 2024-03-12 06:00. */
  input(time: number): string {
    const p = this.parts(time)
    const day = `${p.year}-${p.month}-${p.day}`
    return this.hasClock ? `${day} ${p.hour}:${p.minute}` : day
  }

  /** A typed local time as epoch seconds, null when it is not one. */
  parse(text: string): number | null {
    const match = /^(\d{4})-(\d{2})(?:-(\d{2}))?(?:[ T](\d{2}):(\d{2}))?$/.exec(text.trim())
    if (!match) return null
    const [year = 0, month = 1, day = 1, hour = 0, minute = 0] = match
      .slice(1)
      .map((part) => Number(part ?? NaN) || 0)
    const wall = Date.UTC(year, month - 1, Math.max(day, 1), hour, minute) / 1000
    const shown = this.wall(wall)
    return wall - (shown - wall)
  }

  private wall(time: number): number {
    const p = this.parts(time)
    return (
      Date.UTC(Number(p.year), Number(p.month) - 1, Number(p.day), Number(p.hour) % 24, Number(p.minute)) /
      1000
    )
  }

  get hasClock(): boolean {
    return Boolean(this.grid.seconds)
  }

  /** Steps as text: 24 steps of 1 hour are "24 h". */
  steps(count: number): string {
    const short: Record<string, string> = {
      hour: 'h',
      minute: 'min',
      second: 's',
      day: 'd',
      'business day': 'bd',
      week: 'wk',
      month: 'mo',
    }
    const [amount, ...words] = this.grid.step.split(/ of | except /)[0]!.split(' ')
    const name = words.join(' ').replace(/s$/, '')
    return `${count * Number(amount)} ${short[name] ?? name}`
  }
}
