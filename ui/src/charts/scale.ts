/** Room around what a chart shows, in pixels. */
export const FRAME = { left: 50, right: 10, top: 6, bottom: 20 }

/** Round steps between two values: about `count` of them. */
export function ticks(low: number, high: number, count: number): number[] {
  if (!(high > low) || !Number.isFinite(high - low)) return [low]
  const rough = (high - low) / Math.max(count, 1)
  const power = 10 ** Math.floor(Math.log10(rough))
  const step = [1, 2, 5, 10].map((each) => each * power).find((each) => each >= rough * 0.999) ?? 10 * power
  const out: number[] = []
  for (let at = Math.ceil(low / step - 1e-9); at * step <= high + 1e-9 * step; at++) out.push(at * step)
  return out
}

/** Powers of ten and their halves between two positive values. */
export function logTicks(low: number, high: number): number[] {
  const out: number[] = []
  if (!(low > 0) || !(high > low)) return out
  for (let power = Math.floor(Math.log10(low)); power <= Math.log10(high); power++)
    for (const lead of [1, 2, 5]) {
      const at = lead * 10 ** power
      if (at >= low * 0.999 && at <= high * 1.001) out.push(at)
    }
  return out
}

/** Lowest and highest of what is there; [0, 1] when nothing is. */
export function extent(values: Iterable<number | null | undefined>): [number, number] {
  let low = Infinity
  let high = -Infinity
  for (const value of values) {
    if (value === null || value === undefined || !Number.isFinite(value)) continue
    if (value < low) low = value
    if (value > high) high = value
  }
  return low <= high ? [low, high] : [0, 1]
}

/** A tick as short as its spacing allows. */
export function tickText(value: number, step: number): string {
  const size = Math.abs(value)
  if (size >= 1e6) return `${+(value / 1e6).toPrecision(4)}M`
  if (size >= 1e4) return `${+(value / 1e3).toPrecision(4)}k`
  if (value !== 0 && size < 1e-3) return value.toExponential(0)
  return value.toFixed(Math.min(Math.max(-Math.floor(Math.log10(step || 1) + 1e-9), 0), 4))
}
