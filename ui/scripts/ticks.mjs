// Ticks for ranges read from standard input, one JSON list of questions, answered by one JSON list.
import { readFileSync } from 'node:fs'
import { transformWithOxc } from 'vite'

const path = new URL('../src/charts/ticks.ts', import.meta.url)
const { code } = await transformWithOxc(readFileSync(path, 'utf8'), 'ticks.ts')
const ticks = await import(`data:text/javascript,${encodeURIComponent(code)}`)
const chunks = []
for await (const chunk of process.stdin) chunks.push(chunk)
const asked = JSON.parse(Buffer.concat(chunks).toString())
process.stdout.write(JSON.stringify(asked.map(({ name, args }) => ticks[name](...args))))
