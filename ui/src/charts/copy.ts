import type { Ref } from 'vue'
import type { MenuEntry } from './menu'

type Cell = string | number | null

/** What a chart can be taken away as: PNG, SVG, and its values. */
export function copyPlot(
  host: Ref<HTMLElement | undefined>,
  svg: () => Promise<string>,
  head: string[],
  rows: Cell[][],
): MenuEntry[] {
  return [
    { label: 'Copy as PNG', command: () => copyPicture(host.value) },
    { label: 'Copy as SVG', command: async () => copyText(await svg(), 'image/svg+xml', 'chart.svg') },
    { label: 'Copy the data as CSV', command: () => copyRows(head, rows) },
  ]
}

/** Put a chart's canvas on the clipboard, or save it where the clipboard takes no pictures. */
async function copyPicture(host: HTMLElement | undefined) {
  const canvas = host?.querySelector('canvas')
  if (!canvas) return
  const ground = document.createElement('canvas')
  ground.width = canvas.width
  ground.height = canvas.height
  const ctx = ground.getContext('2d')
  if (!ctx || !host) return
  ctx.fillStyle = getComputedStyle(document.documentElement).getPropertyValue('--panel')
  ctx.fillRect(0, 0, ground.width, ground.height)
  ctx.drawImage(canvas, 0, 0)
  const blob = await new Promise<Blob | null>((done) => ground.toBlob(done))
  if (!blob) return
  await orSaved(
    () => navigator.clipboard.write([new ClipboardItem({ 'image/png': blob })]),
    blob,
    'chart.png',
  )
}

/** Rows as CSV on the clipboard. */
async function copyRows(head: string[], rows: Cell[][]) {
  const cell = (value: Cell) => (typeof value === 'string' ? quoted(value) : (value ?? ''))
  const text = [head.map(quoted).join(','), ...rows.map((row) => row.map(cell).join(','))].join('\n')
  await copyText(text, 'text/csv', 'chart.csv')
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
    const link = document.createElement('a')
    link.href = URL.createObjectURL(blob)
    link.download = name
    link.click()
    URL.revokeObjectURL(link.href)
  }
}
