// What the pages read and do, as hooks. Keys begin with the kind of thing, so that an event can name what is out of date.
import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { get, post, Problem, put, remove } from './client'
import type { ZoneSettings, DefinitionFile, DelegateRequest, DnsRecord, ForecastRequest, Draft, DraftChange, Grant, NewToken, ReplaceRequest, Host, Location, Policy } from './types'

/** A missing thing stays missing however often one asks, and so does a refusal. */
export const retry = (count: number, error: Error) => count < 2 && error instanceof Problem && (error.status === 0 || error.status >= 500)

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: ({ signal }) => get('/sessions/current', {}, signal), staleTime: Infinity })

export const useUsers = (enabled: boolean) => useQuery({ queryKey: ['users'], queryFn: ({ signal }) => get('/users', {}, signal), enabled })

export const useAddUser = () => useRefreshing((user: { name: string; grants: Grant[] }) => post('/users', {}, user), ['users'])

export const useGrant = () => useRefreshing(({ name, grants }: { name: string; grants: Grant[] }) => put('/users/{name}/grants', { name }, { grants }), ['users'])

export const useTokens = () => useQuery({ queryKey: ['tokens'], queryFn: ({ signal }) => get('/tokens', {}, signal) })

export const useAddToken = () => useRefreshing((token: NewToken) => post('/tokens', {}, token), ['tokens'])

export const useRenewToken = () => useRefreshing(({ name, overlap }: { name: string; overlap: number }) => post('/tokens/{name}/renewals', { name }, { overlap }), ['tokens'])

export const useRevokeToken = () => useRefreshing((name: string) => remove('/tokens/{name}', { name }), ['tokens'])

/** Makes the first user by the link of the first start. */
export const useFirstUser = () => useRefreshing((user: { code: string; password: string }) => post('/first-user', {}, user))

export const useRemoveUser = () => useRefreshing((name: string) => remove('/users/{name}', { name }), ['users'])

export const useSessions = () => useQuery({ queryKey: ['users', 'sessions'], queryFn: ({ signal }) => get('/users/current/sessions', {}, signal) })

export const useEndSession = () => useRefreshing((id: number) => remove('/users/current/sessions/{id}', { id }), ['users'])

export const useChangePassword = () => useRefreshing((change: { current: string; new: string }) => put('/users/current/password', {}, change), ['users'])

/** The first page. Its parts come from all over, so events of any kind make it out of date. */
export const useToday = () => useQuery({ queryKey: ['today'], queryFn: ({ signal }) => get('/today', {}, signal), refetchInterval: 15_000 })

export type DomainFilter = { verdict: string | null; finding: string | null; name: string; sort?: string }

/** The domains that pass a filter, page by page in order of their names. */
export const useDomains = ({ verdict, finding, name, sort = '' }: DomainFilter) =>
  useInfiniteQuery({
    queryKey: ['domains', 'list', verdict, finding, name, sort],
    queryFn: ({ signal, pageParam }) =>
      get('/domains', { limit: 200, cursor: pageParam, name, sort, finding: finding ?? '', ...(verdict === null ? {} : { verdict: verdict || 'unchecked' }) }, signal),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
    placeholderData: keepPreviousData,
  })

export const useDomainCounts = () => useQuery({ queryKey: ['domains', 'counts'], queryFn: ({ signal }) => get('/domain-counts', {}, signal) })

export const useDomain = (name: string) =>
  useQuery({ queryKey: ['domains', name], queryFn: ({ signal }) => get('/domains/{name}', { name }, signal) })

export const useReport = (name: string, checked: boolean) =>
  useQuery({
    enabled: checked, queryKey: ['domains', name, 'report'], queryFn: ({ signal }) => get('/domains/{name}/report', { name }, signal) })

export const useAnswers = (name: string) =>
  useQuery({ queryKey: ['domains', name, 'answers'], queryFn: ({ signal }) => get('/domains/{name}/answers', { name }, signal) })

/** How far a brief look at all domains is; asked again until it is through. */
export const useBriefChecks = (since: string | undefined) =>
  useQuery({
    enabled: since !== undefined,
    queryKey: ['brief-checks', since],
    queryFn: ({ signal }) => get('/brief-checks', { since }, signal),
    refetchInterval: (query) => (query.state.data && query.state.data.ended !== null ? false : 1000),
  })

export const useZone = (name: string) => useQuery({ queryKey: ['zones', name], queryFn: ({ signal }) => get('/zones/{name}', { name }, signal) })

export const useRecords = (name: string) =>
  useQuery({
    queryKey: ['zones', name, 'records'],
    queryFn: async ({ signal }) => {
      const items: DnsRecord[] = []
      for (let cursor: string | undefined = ''; cursor !== undefined; ) {
        const page: { items: DnsRecord[]; next?: string } = await get('/zones/{name}/records', { name, cursor, limit: 5000 }, signal)
        for (const r of page.items) items.push(r)
        cursor = page.next || undefined
      }
      return { items }
    },
  })

export const useFindings = (name: string) =>
  useQuery({ queryKey: ['zones', name, 'findings'], queryFn: ({ signal }) => get('/zones/{name}/findings', { name }, signal) })

export const useRevisions = (name: string) =>
  useQuery({ queryKey: ['zones', name, 'revisions'], queryFn: ({ signal }) => get('/zones/{name}/revisions', { name }, signal) })

export const useDifferences = (name: string, revert: boolean) =>
  useQuery({
    queryKey: ['zones', name, 'differences', revert],
    queryFn: ({ signal }) => get('/zones/{name}/differences', { name, revert: revert }, signal),
  })

export const useHosts = () => useQuery({ queryKey: ['hosts'], queryFn: ({ signal }) => get('/hosts', { limit: 200 }, signal) })

export const useHost = (name: string, there: boolean) =>
  useQuery({ queryKey: ['hosts', name], queryFn: ({ signal }) => get('/hosts/{name}', { name }, signal), enabled: there })

export const useAccounts = (role: 'provider' | 'registrar') =>
  useQuery({ queryKey: ['accounts', role], queryFn: ({ signal }) => get('/accounts', { role }, signal), staleTime: 60_000 })

export const useKinds = (role: string) => useQuery({ queryKey: ['kinds', role], queryFn: ({ signal }) => get('/kinds', { role }, signal), staleTime: 10_000 })

type Secret = { name: string; role: string; secret?: string; parts?: Record<string, string> }
type NewAccount = Secret & { kind: string; address: string; hosts: Record<string, string> }

export const useAddAccount = () => useRefreshing((account: NewAccount) => post('/accounts', {}, account), ['accounts'])

export const useRotate = () =>
  useRefreshing(({ name, ...what }: Secret) => put('/accounts/{name}/credential', { name }, what), ['accounts'])

export const useSyncs = (name: string) =>
  useQuery({ queryKey: ['zones', name, 'syncs'], queryFn: ({ signal }) => get('/zones/{name}/syncs', { name }, signal) })

/** The requests of a sync, read again while it runs: each is there from before it is sent. */
export const useRequests = (id: number, running: boolean) =>
  useQuery({ queryKey: ['syncs', id, 'requests'], queryFn: ({ signal }) => get('/syncs/{id}/requests', { id }, signal), refetchInterval: running && 500 })

export const useSetZoneSettings = (name: string) => useRefreshing((settings: ZoneSettings) => put('/zones/{name}/settings', { name }, settings), ['zones', name])

/** What the deletion of a zone would do; the parent is asked for it, so it takes a moment. */
export const useDeletion = (name: string) =>
  useQuery({ queryKey: ['zones', name, 'deletion'], queryFn: () => post('/zones/{name}/deletion-preview', { name }, {}), staleTime: 30_000, gcTime: 0 })

export const useDeleteZone = (name: string) =>
  useRefreshing((how: { override: string[]; reason: string }) => post('/zones/{name}/deletion', { name }, how), ['domains'])

export const useRemoveAccount = () =>
  useRefreshing((a: { name: string; role: string }) => remove('/accounts/{name}', { name: a.name, role: a.role }), ['accounts'])

export const useHold = () => useQuery({ queryKey: ['hold'], queryFn: ({ signal }) => get('/hold', {}, signal) })

export const useRelease = () =>
  useRefreshing((what: { zone: string; account: string; all: boolean }) => post('/hold/release', {}, what), ['hold'], ['zones'])

export const useCancelSync = (zone: string) =>
  useRefreshing((id: number) => post('/syncs/{id}/cancellation', { id }, { reason: 'in the console' }), ['zones', zone])

export const useCancelAct = () => useRefreshing((id: number) => post('/acts/{id}/cancellation', { id }, { reason: 'in the console' }), ['acts'])

export const useAdopt = (name: string) => useRefreshing((adoption: { account: string; allow: string[] }) => post('/zones/{name}/adoptions', { name }, adoption), ['zones', name])

export const useRegistrations = (account: string) =>
  useQuery({
    queryKey: ['registrations', account],
    queryFn: ({ signal }) => get('/accounts/{name}/registrations', { name: account }, signal),
    enabled: account !== '',
    staleTime: 60_000,
  })

export const useLogbook = (subject: string, requests: boolean) =>
  useQuery({ queryKey: ['logbook', subject, requests], queryFn: ({ signal }) => get('/logbook', { subject, requests, limit: 100 }, signal) })

export const useComparison = (name: string, from: number, to: number) =>
  useQuery({
    queryKey: ['zones', name, 'comparison', from, to],
    queryFn: ({ signal }) => get('/zones/{name}/comparison', { name, from, to }, signal),
    staleTime: Infinity, // revisions never change
  })

/** What would be done at the registrar, without doing it. */
export const usePlan = (name: string, how: DelegateRequest) =>
  useQuery({
    queryKey: ['domains', name, 'plan', how],
    queryFn: () => post('/domains/{name}/delegation-preview', { name }, how),
    placeholderData: keepPreviousData,
  })

/** When each step of a handover could be done; the parent and both sides are asked, so only once it is wanted. */
export const useForecast = (name: string, how: ForecastRequest, wanted: boolean) =>
  useQuery({
    queryKey: ['forecast', name, how],
    queryFn: () => post('/domains/{name}/handover-forecast', { name }, how),
    enabled: wanted,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  })

/** What users asked for and what changes something outside, newest first. */
export const useActs = (name: string) =>
  useQuery({ queryKey: ['acts', 'of', name], queryFn: ({ signal }) => get('/acts', { subject: name, limit: 20 }, signal) })

/** One act; while it runs it is asked for again, besides what events say. */
export const useAct = (id: number) =>
  useQuery({
    queryKey: ['acts', id],
    queryFn: ({ signal }) => get('/acts/{id}', { id }, signal),
    refetchInterval: (query) => (['pending', 'running', 'retrying'].includes(query.state.data?.state ?? '') ? 1000 : false),
  })

export function useRefreshing<In, Out>(run: (input: In) => Promise<Out>, ...keys: string[][]) {
  const client = useQueryClient()
  return useMutation({ mutationFn: run, onSettled: () => Promise.all(keys.map((queryKey) => client.invalidateQueries({ queryKey }))) })
}

export const useSignIn = () =>
  useRefreshing((who: { name: string; password: string }) => post('/sessions', {}, { ...who, browser: true }), ['me'])

export const useSignOut = () => useRefreshing(() => remove('/sessions/current'))

export const useCheck = (name: string) => useRefreshing(() => post('/domains/{name}/checks', { name }, undefined), ['domains'])

export const useStartBriefCheck = () => useRefreshing(() => post('/brief-checks', {}, undefined))

export const useDelegate = (name: string) => useRefreshing((how: DelegateRequest) => post('/domains/{name}/delegations', { name }, how), ['acts'], ['domains'])

/** The DS records of a domain, compared with the keys that its nameservers serve. */
export const useDS = (name: string, enabled: boolean) =>
  useQuery({ queryKey: ['domains', name, 'ds'], queryFn: () => post('/domains/{name}/ds-preview', { name }, { remove: false, compare: true, override: [], reason: '' }), enabled })

export const useChangeDS = (name: string) =>
  useRefreshing((remove: boolean) => post('/domains/{name}/ds-changes', { name }, { remove, compare: false, override: [], reason: '' }), ['acts'], ['domains'])

export const useChangeLock = (name: string) =>
  useRefreshing((change: { status: string; lift: boolean; reason: string }) => post('/domains/{name}/lock-changes', { name }, change), ['acts'], ['domains'])

export const useApply = () =>
  useRefreshing(
    (what: { files: DefinitionFile[]; dryRun: boolean; manage: boolean }) =>
      post('/definitions', {}, { files: what.files, dry_run: what.dryRun, manage: what.manage, reason: '' }),
    ['domains'],
    ['zones'],
  )

export const useSync = (name: string) =>
  useRefreshing(
    (how: { account: string; allow: string[]; expect: string; revert: boolean }) =>
      post('/zones/{name}/syncs', { name }, { account: how.account, allow: how.allow, expect: how.expect, revert: how.revert }),
    ['zones', name],
  )

export const useRestore = (name: string) =>
  useRefreshing((revision: number) => post('/zones/{name}/restorations', { name }, { revision, reason: '' }), ['zones', name], ['domains'])

export const useGenerate = () =>
  useMutation({
    mutationFn: (what: { zone: string; providers: string[]; registrar: string; file: string; text: string; new: boolean }) =>
      post('/generated-definitions', {}, { ...what, from: '', description: '' }),
  })

export const useAddHost = () =>
  useRefreshing((host: { name: string; v4: boolean; v6: boolean; location?: string }) => post('/hosts', {}, host), ['hosts'], ['locations'])

export const useLocations = () => useQuery({ queryKey: ['locations'], queryFn: ({ signal }) => get('/locations', { limit: 200 }, signal) })

export const useLocation = (location: string, there: boolean) =>
  useQuery({ queryKey: ['locations', location], queryFn: ({ signal }) => get('/locations/{location}', { location }, signal), enabled: there })

export const useAddLocation = () => useRefreshing((l: { name: string; uplinks: string[] }) => post('/locations', {}, l), ['locations'])

/** Changes the policy of a location; the rest of its settings stays. */
export const useChangeLocation = (l: Location) =>
  useRefreshing((policy: Policy) => put('/locations/{location}', { location: l.name }, { name: l.name, description: l.description, policy }), ['locations'], ['hosts'])

/** Changes the policy of a host; the rest of its settings stays. */
export const useChangeHost = (h: Host) =>
  useRefreshing(
    (policy: Policy) =>
      put('/hosts/{name}', { name: h.name }, { name: h.name, v4: h.follows.v4, v6: h.follows.v6, ttl: h.ttl, below: h.below, policy, parameters: h.location ? undefined : h.uplinks?.[0]?.parameters }),
    ['hosts'],
    ['locations'],
  )

export const useRemoveLocation = () => useRefreshing((location: string) => remove('/locations/{location}', { location }), ['locations'])

export const useRemoveHost = () => useRefreshing((name: string) => remove('/hosts/{name}', { name }), ['hosts'])

export const useTSIGKeys = () => useQuery({ queryKey: ['tsig-keys'], queryFn: ({ signal }) => get('/tsig-keys', { limit: 200 }, signal) })

export const useAddTSIGKey = () => useRefreshing((of: string) => post('/tsig-keys', {}, { for: of }), ['tsig-keys'])

export const useRemoveTSIGKey = () => useRefreshing((key: string) => remove('/tsig-keys/{key}', { key }), ['tsig-keys'])

export const useHouseKit = () => useQuery({ queryKey: ['house-kit'], queryFn: ({ signal }) => get('/house-kit', {}, signal), staleTime: Infinity })

export const useZoneDraft = (name: string) =>
  useQuery({ queryKey: ['zones', name, 'draft'], queryFn: ({ signal }) => get('/zones/{name}/draft', { name }, signal) })

/** Changes the draft that was looked at. Where another user was quicker, their draft is fetched, and the problem says so. */
export function useEditDraft(name: string) {
  const client = useQueryClient()
  const queryKey = ['zones', name, 'draft']
  return useMutation({
    mutationFn: (what: { draft: Draft; change: Partial<DraftChange> }) =>
      post('/zones/{name}/draft/edits', { name }, { records: [], sets: [], undo: [], ...what.change }, what.draft.tag),
    onSuccess: (draft) => client.setQueryData(queryKey, draft),
    onError: () => client.invalidateQueries({ queryKey }),
  })
}

export const useDiscardDraft = (name: string) => useRefreshing((draft: Draft) => remove('/zones/{name}/draft', { name }, draft.tag), ['zones', name])

export const useAcceptDraft = (name: string) =>
  useRefreshing((what: { draft: Draft; reason: string }) => post('/zones/{name}/draft/acceptance', { name }, { reason: what.reason }, what.draft.tag), ['zones', name], ['domains'])

export const useRecordTypes = () => useQuery({ queryKey: ['record-types'], queryFn: ({ signal }) => get('/record-types', {}, signal), staleTime: Infinity })

/** Makes data of the fields of a type; the service knows how. */
export const useJoin = (name: string) =>
  useMutation({ mutationFn: (what: { type: string; fields: Record<string, string> }) => post('/zones/{name}/data', { name }, what) })

export const useRecognition = (name: string, text: string, ttl: number) =>
  useQuery({
    queryKey: ['recognition', name, text, ttl],
    queryFn: () => post('/zones/{name}/recognitions', { name }, { text, ttl }),
    enabled: text.trim() !== '',
    gcTime: 10_000,
  })

export const useDetach = (name: string) => useRefreshing(() => post('/zones/{name}/detachment', { name }, undefined), ['zones', name])

export type SearchFor = { text: string; type: string }

export const useSearchPages = (what: SearchFor) =>
  useInfiniteQuery({
    queryKey: ['search', what],
    queryFn: ({ signal, pageParam }) => get('/records', { ...what, limit: 100, cursor: pageParam }, signal),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
    enabled: what.text.trim() !== '',
  })

export const useReplace = () => useRefreshing((what: ReplaceRequest) => post('/operations', {}, what), ['zones'], ['search'], ['operations'])

export const useOperations = () => useQuery({ queryKey: ['operations'], queryFn: ({ signal }) => get('/operations', { limit: 20 }, signal) })

export const useUndo = () => useRefreshing((id: number) => post('/operations/{id}/undo', { id }, undefined), ['zones'], ['search'], ['operations'])

export const useSyncOperation = () => useRefreshing((id: number) => post('/operations/{id}/syncs', { id }, undefined), ['zones'])

export const useNameHistory = (name: string, of: string) =>
  useQuery({ queryKey: ['zones', name, 'history', of], queryFn: ({ signal }) => get('/zones/{name}/history', { name, of }, signal) })
