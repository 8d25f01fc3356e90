/** A number with significant digits that follow `scale`, in the reader's locale; missing is a dash. */
export function number(value: number | null | undefined, digits = 4): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return '–'
  if (value !== 0 && (Math.abs(value) >= 1e7 || Math.abs(value) < 1e-4)) return value.toExponential(2)
  return value.toLocaleString(undefined, { maximumSignificantDigits: digits })
}

const formats = new Map<number, Intl.NumberFormat>()
function decimalFormat(decimals: number): Intl.NumberFormat {
  let format = formats.get(decimals)
  if (!format) {
    format = new Intl.NumberFormat(undefined, {
      minimumFractionDigits: decimals,
      maximumFractionDigits: decimals,
    })
    formats.set(decimals, format)
  }
  return format
}

/** A fixed number of decimals, so that a column lines up. */
export function fixed(value: number | null | undefined, decimals: number): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return '–'
  return decimalFormat(decimals).format(value)
}

export function signed(value: number | null | undefined, decimals = 2): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return '–'
  const text = fixed(Math.abs(value), decimals)
  if (Math.round(Math.abs(value) * 10 ** decimals) === 0) return text
  return value > 0 ? `+${text}` : value < 0 ? `−${text}` : text
}

export function count(value: number | null | undefined): string {
  return value === null || value === undefined ? '–' : value.toLocaleString()
}

export function seconds(value: number | null | undefined): string {
  if (value === null || value === undefined) return '–'
  if (value < 90) return `${Math.round(value)} s`
  return `${Math.round(value / 60)} min`
}

/** Decimals that suit values of this size: about four significant digits. */
export function decimalsFor(values: (number | null | undefined)[]): number {
  const sizes = values.filter((v): v is number => typeof v === 'number' && Number.isFinite(v)).map(Math.abs)
  const largest = Math.max(0, ...sizes)
  if (largest === 0) return 2
  return Math.min(Math.max(3 - Math.floor(Math.log10(largest)), 0), 6)
}

/** A size in memory, in the unit that suits it. */
export function bytes(value: number | null | undefined): string {
  if (value === null || value === undefined) return '–'
  const units = ['B', 'kB', 'MB', 'GB']
  const power = Math.min(Math.max(Math.floor(Math.log10(Math.max(value, 1)) / 3), 0), 3)
  return `${number(value / 1000 ** power, 3)} ${units[power]}`
}

/** A chance as papers print it: three decimals, never 0 or 1. */
export function chance(p: number | null | undefined): string {
  if (p === null || p === undefined) return '–'
  return p < 0.001 ? '< 0.001' : p > 0.999 ? '> 0.999' : fixed(p, 3)
}

/** So many of something, in plain language: 1 value, 2 values. */
export function counted(n: number | null | undefined, one: string, many = `${one}s`): string {
  return `${count(n)} ${n === 1 ? one : many}`
}
