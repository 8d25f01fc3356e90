/** How well a text answers a search: each word's letters in order, best at the beginnings of words; null when not. */
export function likeness(search: string, text: string): number | null {
  const within = text.toLowerCase()
  let total = 0
  for (const word of search.toLowerCase().split(/\s+/).filter(Boolean)) {
    const whole = within.indexOf(word)
    if (whole >= 0) {
      total += whole === 0 || /\W/.test(within[whole - 1] ?? '') ? 4 : 2
      continue
    }
    const spread = scattered(word, within)
    if (spread === null) return null
    total += spread
  }
  return total
}

/** Letters in order, none further from the one before than a few; short words must stand whole. */
function scattered(word: string, within: string): number | null {
  if (word.length < 3) return null
  let at = within.indexOf(word[0] as string)
  while (at >= 0) {
    let here = at
    let gaps = 0
    const found = [...word.slice(1)].every((letter) => {
      const next = within.indexOf(letter, here + 1)
      if (next < 0 || next - here > 4) return false
      gaps += next - here - 1
      here = next
      return true
    })
    if (found) return Math.max(1 - gaps / 10, 0.1)
    at = within.indexOf(word[0] as string, at + 1)
  }
  return null
}
