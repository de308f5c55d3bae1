// Finding the records of a domain where it is served now, and who holds it.
import { useQuery } from '@tanstack/react-query'
import { get, post } from './client'
import { useRefreshing } from './hooks'
import type { Gathering, GatheringDecision } from './types'

/** The newest gathering of a domain; null where there is none. While it goes on it is asked for again. */
export const useGathering = (name: string) =>
  useQuery({
    queryKey: ['gatherings', name],
    queryFn: async ({ signal }): Promise<Gathering | null> => (await get('/domains/{name}/gatherings', { name }, signal)).items[0] ?? null,
    enabled: name !== '',
    refetchInterval: (query) => (query.state.data && !query.state.data.finished_at ? 500 : false),
  })

export const useHolder = (name: string) =>
  useQuery({ queryKey: ['holders', name], queryFn: ({ signal }) => get('/domains/{name}/holder', { name }, signal), enabled: name !== '', staleTime: 60_000 })

export type Sources = { name: string; names: string[]; file: string; text: string }

export const useGather = () =>
  useRefreshing(({ name, names, file, text }: Sources) => post('/domains/{name}/gatherings', { name }, { account: '', names, file, text }), ['gatherings'])

export const useAcceptGathering = (name: string) =>
  useRefreshing(
    ({ id, decisions, afterwards }: { id: number; decisions: GatheringDecision[]; afterwards: boolean }) =>
      post('/domains/{name}/gathering/acceptance', { name }, { id, decisions, reason: '', dry_run: false, afterwards }),
    ['zones'],
    ['domains'],
    ['handovers'],
  )
