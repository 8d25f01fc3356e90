/** The path of a sparkline, 60 wide and 16 high; gaps stay open. */
export function spark(values: (number | null)[]): string {
  const known = values.filter((v): v is number => v !== null)
  const low = Math.min(...known)
  const high = Math.max(...known)
  return values
    .map((v, i) => {
      if (v === null) return ''
      const x = (i / Math.max(values.length - 1, 1)) * 60
      const y = 15 - ((v - low) / (high - low || 1)) * 14
      return `${i && values[i - 1] !== null ? 'L' : 'M'}${x.toFixed(1)} ${y.toFixed(1)}`
    })
    .join('')
}
