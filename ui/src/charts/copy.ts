import type { LaneSeries } from './lane'

/** Put the lane's canvas on the clipboard, or save it where the clipboard takes no pictures. */
export async function copyChart(host: HTMLElement | undefined) {
  const canvas = host?.querySelector('canvas')
  const blob = await new Promise<Blob | null>((done) => (canvas ? canvas.toBlob(done) : done(null)))
  if (!blob) return
  await orSaved(
    () => navigator.clipboard.write([new ClipboardItem({ 'image/png': blob })]),
    blob,
    'chart.png',
  )
}

/** The values of a lane as CSV on the clipboard: time, series, value. */
export async function copyTable(series: LaneSeries[]) {
  const rows = series.flatMap((each) =>
    each.points.times.map(
      (time, i) =>
        `${new Date(time * 1000).toISOString()},${quoted(each.label)},${each.points.values[i] ?? ''}`,
    ),
  )
  await copyText(['time,series,value', ...rows].join('\n'), 'text/csv', 'chart.csv')
}

/** Rows of a chart as CSV on the clipboard. */
export async function copyRows(head: string[], rows: (readonly (string | number | null)[])[]) {
  const cell = (value: string | number | null) => (typeof value === 'string' ? quoted(value) : (value ?? ''))
  const text = [head.join(','), ...rows.map((row) => row.map(cell).join(','))].join('\n')
  await copyText(text, 'text/csv', 'chart.csv')
}

/** A drawn chart as SVG on the clipboard, with the colours it has on screen. */
export async function copySvg(picture: SVGSVGElement | undefined) {
  if (!picture) return
  const copy = picture.cloneNode(true) as SVGSVGElement
  const shown = picture.querySelectorAll<SVGElement>('*')
  copy.querySelectorAll<SVGElement>('*').forEach((element, i) => {
    const style = getComputedStyle(shown[i] as Element)
    for (const name of ['fill', 'stroke', 'stroke-width', 'stroke-dasharray', 'font-size', 'font-family'])
      element.style.setProperty(name, style.getPropertyValue(name))
  })
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg')
  const text = new XMLSerializer().serializeToString(copy)
  await copyText(text, 'image/svg+xml', 'chart.svg')
}

/** A cell of text: quotes doubled, and never a formula to the program it is pasted into. */
const quoted = (text: string) => `"${(/^[=+\-@\t\r]/.test(text) ? "'" : '') + text.replaceAll('"', '""')}"`

const copyText = (text: string, type: string, name: string) =>
  orSaved(() => navigator.clipboard.writeText(text), new Blob([text], { type }), name)

/** Where the browser gives no clipboard, the same becomes a file. */
async function orSaved(write: () => Promise<void>, blob: Blob, name: string) {
  try {
    await write()
  } catch {
    save(blob, name)
  }
}

function save(blob: Blob, name: string) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(blob)
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
