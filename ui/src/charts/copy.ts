import { attempt, problem } from '../api/client'
import type { LaneSeries } from './lane'

/** Put the lane's canvas on the clipboard, or save it where the clipboard takes no pictures. */
export async function copyChart(host: HTMLElement | undefined) {
  const canvas = host?.querySelector('canvas')
  const blob = await new Promise<Blob | null>((done) => (canvas ? canvas.toBlob(done) : done(null)))
  if (!blob) return
  await attempt(() => navigator.clipboard.write([new ClipboardItem({ 'image/png': blob })]))
  if (problem.value) save(blob, 'chart.png')
}

/** The values of a lane as CSV on the clipboard: time, series, value. */
export async function copyTable(series: LaneSeries[]) {
  const rows = series.flatMap((each) =>
    each.points.times.map(
      (time, i) => `${new Date(time * 1000).toISOString()},"${each.label}",${each.points.values[i] ?? ''}`,
    ),
  )
  const text = ['time,series,value', ...rows].join('\n')
  await attempt(() => navigator.clipboard.writeText(text))
  if (problem.value) save(new Blob([text], { type: 'text/csv' }), 'chart.csv')
}

/** Rows of a chart as CSV on the clipboard. */
export async function copyRows(head: string[], rows: (readonly (string | number | null)[])[]) {
  const cell = (value: string | number | null) => (typeof value === 'string' ? `"${value}"` : (value ?? ''))
  const text = [head.join(','), ...rows.map((row) => row.map(cell).join(','))].join('\n')
  await attempt(() => navigator.clipboard.writeText(text))
  if (problem.value) save(new Blob([text], { type: 'text/csv' }), 'chart.csv')
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
  await attempt(() => navigator.clipboard.writeText(text))
  if (problem.value) save(new Blob([text], { type: 'image/svg+xml' }), 'chart.svg')
}

function save(blob: Blob, name: string) {
  problem.value = null
  const link = document.createElement('a')
  link.href = URL.createObjectURL(blob)
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
