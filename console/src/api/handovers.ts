// Handovers: the moves of domains to other nameservers.
import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { get, post } from './client'
import { useRefreshing } from './hooks'
import type { HandoverRequest } from './types'

/** The newest handover of a domain that has one. While it goes on it is asked for again, besides what events say. */
export const useHandover = (name: string, there: boolean) =>
  useQuery({
    queryKey: ['handovers', name],
    queryFn: ({ signal }) => get('/domains/{name}/handover', { name }, signal),
    enabled: there,
    refetchInterval: (query) => (query.state.data?.state === 'open' ? 3000 : false),
  })

export const useHandovers = (ended: boolean) =>
  useInfiniteQuery({
    queryKey: ['handovers', 'list', ended],
    queryFn: ({ signal, pageParam }) => get('/handovers', { state: ended ? 'ended' : 'open', cursor: pageParam, limit: 200 }, signal),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
    refetchInterval: ended ? false : 10_000,
  })

export const useBeginHandover = (name: string) =>
  useRefreshing((r: HandoverRequest) => post('/domains/{name}/handovers', { name }, r), ['handovers'], ['domains'], ['zones'])

export type Word = { allow?: string[]; agree?: string; pass?: string[]; reason?: string }

export const useHandoverWord = (name: string) =>
  useRefreshing(
    ({ allow = [], agree = '', pass = [], reason = '' }: Word) => post('/domains/{name}/handover/words', { name }, { allow, agree, pass, reason }),
    ['handovers'],
    ['domains'],
  )

export type Turn = 'pause' | 'resumption' | 'abandonment' | 'return'

export const useHandoverTurn = (name: string) =>
  useRefreshing(
    (turn: Turn) => {
      switch (turn) {
        case 'pause':
          return post('/domains/{name}/handover/pause', { name }, { reason: '' })
        case 'resumption':
          return post('/domains/{name}/handover/resumption', { name }, { reason: '' })
        case 'abandonment':
          return post('/domains/{name}/handover/abandonment', { name }, { reason: '' })
        case 'return':
          return post('/domains/{name}/handover/return', { name }, { reason: '' })
      }
    },
    ['handovers'],
    ['domains'],
  )
