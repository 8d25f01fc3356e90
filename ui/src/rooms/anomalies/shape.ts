/** A fault of one's own as it is drawn: heights point by point, between -1 and 1. */
export const LONGEST = 96

/** The same shape over another number of points: the last height goes on, or the end is cut off. */
export function stretched(heights: number[], points: number): number[] {
  const wanted = Math.min(Math.max(Math.round(points), 1), LONGEST)
  return Array.from({ length: wanted }, (_, at) => heights[Math.min(at, heights.length - 1)] ?? 0)
}

/** Heights after a stroke from one point to another, both drawn: what lies between is joined by a line. */
export function stroked(heights: number[], from: [number, number], to: [number, number]): number[] {
  const [a, b] = from[0] <= to[0] ? [from, to] : [to, from]
  return heights.map((height, at) => {
    if (at < a[0] || at > b[0]) return height
    const along = b[0] === a[0] ? 1 : (at - a[0]) / (b[0] - a[0])
    return limited(a[0] === b[0] ? to[1] : a[1] + along * (b[1] - a[1]))
  })
}

export const limited = (height: number) => Math.round(Math.min(Math.max(height, -1), 1) * 20) / 20
