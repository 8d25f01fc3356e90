import createClient from 'openapi-fetch'
import { ref } from 'vue'
import type { components, paths } from './schema'

export type Shapes = components['schemas']
export const client = createClient<paths>({ baseUrl: '' })

export class ProblemError extends Error {
  constructor(
    readonly detail: string,
    readonly status: number,
    readonly field?: string | null,
  ) {
    super(detail)
  }
}

/**
 * What went wrong last, shown in the readout until Esc. What the user did stays until something else they do
 * succeeds: an answer fetched beside it takes back only what such an answer said.
 */
export const problem = ref<string | null>(null)
let done = false

/** What is sent may leave out whatever has a default. */
export type Draft<T> = T extends (infer U)[]
  ? Draft<U>[]
  : T extends object
    ? { [K in keyof T]?: Draft<T[K]> }
    : T

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** The data of an answer, or a `ProblemError` with the server's sentence. */
export async function unwrap<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await asked
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') throw error
    throw new ProblemError(
      'The server does not answer. Work that was running goes on; reload when it is back.',
      0,
    )
  }
  if (answer.data !== undefined && answer.response.ok) return answer.data
  const body = (answer.error ?? {}) as { detail?: string; field?: string | null }
  throw new ProblemError(
    body.detail ?? `The server answered ${answer.response.status}.`,
    answer.response.status,
    body.field,
  )
}

/** What a question asked beside the user's doing came to: its problem, or null where it was answered. */
export function saidBeside(error: unknown) {
  if (error instanceof DOMException && error.name === 'AbortError') return
  if (error === null) {
    if (!done) problem.value = null
  } else if (!(done && problem.value)) {
    problem.value = error instanceof Error ? error.message : String(error)
    done = false
  }
}

/** Do something beside what the user does: its problem never stands over one of theirs. */
export async function beside<T>(work: () => Promise<T>): Promise<T | undefined> {
  try {
    const result = await work()
    saidBeside(null)
    return result
  } catch (error) {
    saidBeside(error)
    return undefined
  }
}

/** Do what the user asked for, show its problem in the readout; undefined when it failed. */
export async function attempt<T>(work: () => Promise<T>): Promise<T | undefined> {
  try {
    const result = await work()
    problem.value = null
    return result
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') return undefined
    problem.value = error instanceof Error ? error.message : String(error)
    done = true
    return undefined
  }
}

/** Save an answer's body as a file. */
export async function download(path: string, name: string, init?: RequestInit): Promise<void> {
  const response = await fetch(path, init)
  if (!response.ok) {
    const body = (await response.json().catch(() => ({}))) as { detail?: string }
    throw new ProblemError(body.detail ?? `The server answered ${response.status}.`, response.status)
  }
  const link = document.createElement('a')
  link.href = URL.createObjectURL(await response.blob())
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
