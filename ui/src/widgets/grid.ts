/** A column of a table: what a row's value is, and how it is said. */
export interface GridColumn<Row> {
  name: string
  title: string
  help?: string
  /** What rows are sorted by; words by letter, numbers by size. Without it the column is not sorted. */
  value?: (row: Row) => number | string | null
  text?: (row: Row) => string
  width?: number
  /** Words stand left, numbers right. */
  words?: boolean
  /** Stays in view when the rest is scrolled sideways. */
  frozen?: boolean
  className?: (row: Row) => string
  tip?: (row: Row) => string
}

export interface GridSort {
  name: string
  up: boolean
}

/** Rows in the order of a column; what has no value comes last, either way. */
export function sorted<Row>(rows: Row[], column: GridColumn<Row> | undefined, up: boolean): Row[] {
  const value = column?.value
  if (!value) return rows
  const order = up ? 1 : -1
  return [...rows].sort((a, b) => {
    const [x, y] = [value(a), value(b)]
    if (x === null || y === null) return x === y ? 0 : x === null ? 1 : -1
    if (x === y) return 0
    return (x < y ? -1 : 1) * order
  })
}
