import { hashKey, keepPreviousData, QueryCache, QueryClient, useQuery } from '@tanstack/vue-query'
import { computed, onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'
import { ProblemError, saidBeside } from '../api/client'

/**
 * Whatever the server has said: kept by the question, which holds all that the answer depends on (the version of the
 * data, the cutoff, the chain, the plan), so that an answer is right until an event says otherwise.
 */
export const answers = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => saidBeside(error),
    onSuccess: () => saidBeside(null),
  }),
  defaultOptions: {
    queries: {
      staleTime: Infinity,
      gcTime: 60_000,
      refetchOnWindowFocus: false,
      refetchOnReconnect: false,
      networkMode: 'always',
      // Questions change nothing, so they may be asked again; what was refused will be refused again.
      retry: (count, error) =>
        count < 2 && error instanceof ProblemError && [0, 502, 503, 504].includes(error.status),
      retryDelay: (count) => 400 * 2 ** count,
    },
  },
})

/** What a view does with an answer: shows it, waits, says why there is none, and asks again. */
export interface Answer<T = unknown> {
  data: Readonly<Ref<T | null>>
  /** Another answer is on its way. */
  busy: Readonly<Ref<boolean>>
  /** Nothing has been said yet and something is asked. */
  loading: Readonly<Ref<boolean>>
  /** Why the last question has no answer; what is shown then is of an earlier one. */
  failure: Readonly<Ref<string>>
  error: Readonly<Ref<Error | null>>
  again: () => void
}

interface Manner {
  /** Milliseconds that a question must stand before it is asked, while it keeps changing. */
  settle?: number
  /** An event that makes the answer old, as the project tells it: “experiment 5”. */
  live?: () => string
  /** The next question waits that many times as long as the last answer took, when an event asks for it. */
  rest?: number
  /** How often that event came. */
  tick?: () => number
  /** It stands beside the lanes: a next question is asked once what they wait for is there, or soon anyway. */
  aside?: boolean
}

/** What stands beside the lanes waits no longer for them, ms. */
const ASIDE = 300

/** When nothing is asked any more that lanes wait for, and it is drawn; or after `ASIDE`. */
async function lanesServed() {
  const until = performance.now() + ASIDE
  const waiting = () => answers.isFetching({ predicate: (query) => !query.meta?.aside }) > 0
  do await new Promise((done) => setTimeout(done, 10))
  while (waiting() && performance.now() < until)
}

/** A question that changed so lately is being dragged or stepped through, ms. */
const STIRRED = 200

/**
 * The answer to a question that changes: asked at once, or while it keeps changing once it has settled, cancelled when
 * outdated, kept until the next is there. No question (null) has no answer.
 */
export function useAnswer<Asked extends object, T>(
  name: string,
  question: () => Asked | null,
  ask: (asked: Asked, signal: AbortSignal) => Promise<T>,
  manner: Manner = {},
): Answer<T> {
  const settled = shallowRef<Asked | null>(question())
  const settling = ref(false)
  let text = hashKey([settled.value])
  let timer: ReturnType<typeof setTimeout> | undefined
  let changed = -Infinity

  watch(question, (now) => {
    const next = hashKey([now])
    clearTimeout(timer)
    settling.value = next !== text
    if (next === text) return
    // A single change needs no time to settle, nor does what was asked already, nor no question.
    const wait = manner.settle ?? 60
    const single = performance.now() - changed > STIRRED + wait
    changed = performance.now()
    const known = answers.getQueryData([name, now]) !== undefined
    const take = () => {
      text = next
      settled.value = now
      settling.value = false
    }
    if (!now || known || !settled.value || single) take()
    else timer = setTimeout(take, wait)
  })

  const last = shallowRef<T | null>(null) as Ref<T | null>
  const query = useQuery(
    computed(() => {
      const asked = settled.value
      return {
        queryKey: [name, asked],
        queryFn: async ({ signal }: { signal: AbortSignal }) => {
          if (manner.aside && last.value !== null) await lanesServed()
          signal.throwIfAborted()
          return ask(asked as Asked, signal)
        },
        enabled: asked !== null,
        placeholderData: keepPreviousData,
        // Answers are large and never changed: neither watched in depth nor compared in depth.
        shallow: true,
        structuralSharing: false,
        meta: { live: manner.live?.(), aside: manner.aside },
      }
    }),
    answers,
  )

  let begun = 0
  let took = 0
  let ended = 0
  watch(query.isFetching, (now) => {
    if (now) begun = performance.now()
    else [ended, took] = [performance.now(), performance.now() - begun]
  })
  watch(
    [query.data, settled],
    ([data, asked]) => {
      if (!asked) last.value = null
      else if (data !== undefined) last.value = data as T
    },
    { immediate: true, flush: 'sync' },
  )
  let due: ReturnType<typeof setTimeout> | undefined
  if (manner.tick)
    watch(manner.tick, () => {
      clearTimeout(due)
      const wait = Math.max(manner.settle ?? 60, ended + took * (manner.rest ?? 0) - performance.now())
      due = setTimeout(() => settled.value && void query.refetch(), wait)
    })
  onScopeDispose(() => {
    clearTimeout(timer)
    clearTimeout(due)
  })

  return {
    data: last,
    busy: computed(() => query.isFetching.value || settling.value),
    loading: computed(() => settled.value !== null && last.value === null && !query.isError.value),
    failure: computed(() => (settled.value ? (query.error.value?.message ?? '') : '')),
    error: computed(() => (settled.value ? query.error.value : null)),
    again: () => void query.refetch(),
  }
}

/** Ask once, or take what was said already. */
export const askOnce = <T>(
  key: unknown[],
  ask: (signal: AbortSignal) => Promise<T>,
  fresh = false,
): Promise<T> =>
  answers.fetchQuery({
    queryKey: key,
    queryFn: ({ signal }) => ask(signal),
    staleTime: fresh ? 0 : Infinity,
  })

/** What an event made old: asked again when it is next looked at. */
export function outdate(names: Iterable<string>) {
  const old = new Set(names)
  void answers.invalidateQueries({
    predicate: (query) => old.has('resync') || old.has(String(query.meta?.live ?? '')),
    refetchType: 'none',
  })
}
