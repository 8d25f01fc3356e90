import { computed, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { attempt, type Shapes } from '../api/client'
import type { Kind, Named } from './kept'
import { useProject } from './project'

/** One thing with a name: what is said of it, and how the project is made to stand on it. */
export interface Line extends Named {
  about: string
  here?: boolean
  stand?: () => unknown
}

/** Everything in the project that has a name, by kind, narrowed down by what is searched for. */
export function useKeptLines(
  chains: Ref<Shapes['SavedChain'][]>,
  plans: Ref<Shapes['SavedPlan'][]>,
  search: Ref<string>,
) {
  const store = useProject()
  const route = useRoute()
  const router = useRouter()
  const stand = (changes: Parameters<typeof store.choose>[0]) => attempt(() => store.choose(changes))
  return computed<{ title: string; kind: Kind; lines: Line[] }[]>(() => {
    const project = store.project
    const word = search.value.trim().toLowerCase()
    const groups: { title: string; kind: Kind; lines: Line[] }[] = [
      {
        title: 'Projects',
        kind: 'projects',
        lines: store.list.map((each) => ({
          ...each,
          kind: 'projects',
          about: '',
          here: each.id === project?.id,
          stand: () => router.push({ name: String(route.name), params: { project: each.id } }),
        })),
      },
      {
        title: 'Versions of the data',
        kind: 'datasets',
        lines: [...(project?.datasets ?? [])].reverse().map((each) => ({
          ...each,
          kind: 'datasets',
          about: `version ${each.version}, ${each.done}`,
          here: each.id === store.choices.dataset_id,
          stand: () => stand({ dataset_id: each.id }),
        })),
      },
      {
        title: 'Experiments',
        kind: 'experiments',
        lines: (project?.experiments ?? []).map((each) => {
          const version = project?.datasets.find((one) => one.id === each.dataset_id)?.version
          return {
            ...each,
            kind: 'experiments',
            about: `${each.done} of ${each.cells} cells, data version ${version}, ${each.state}`,
            here: each.id === store.choices.experiment_id,
            stand: () => stand({ experiment_id: each.id }),
          }
        }),
      },
      {
        title: 'Chains',
        kind: 'chains',
        lines: chains.value.map((each) => ({
          ...each,
          kind: 'chains',
          about: `${each.stages.length} stage${each.stages.length === 1 ? '' : 's'}`,
          stand: () => stand({ chain: each.stages }),
        })),
      },
      {
        title: 'Plans',
        kind: 'plans',
        lines: plans.value.map((each) => ({
          ...each,
          kind: 'plans',
          about: each.text,
          stand: () => stand({ plan: each.plan }),
        })),
      },
    ]
    return groups.map((each) => ({
      ...each,
      lines: each.lines.filter((line) => line.name.toLowerCase().includes(word)),
    }))
  })
}
