// The event stream: what happens at the service makes what is shown here out of date, and a broken stream is said.
import type { QueryClient } from '@tanstack/react-query'
import { useSyncExternalStore } from 'react'
import type { Entry } from './types'

/** away: since when the service's own database is away, where the service said so. */
export type Connection = { state: 'opening' | 'open' | 'lost'; since: number; away?: number }

let connection: Connection = { state: 'opening', since: Date.now() }
const listeners = new Set<() => void>()

function become(state: Connection['state'], away?: number) {
  if (state === connection.state && away === undefined) return
  connection = { state, since: state === connection.state ? connection.since : Date.now(), away }
  listeners.forEach((tell) => tell())
}

export function useConnection(): Connection {
  return useSyncExternalStore(
    (tell) => {
      listeners.add(tell)
      return () => listeners.delete(tell)
    },
    () => connection,
  )
}

/** What an event makes out of date, as beginnings of query keys. */
export function outOfDate(e: Pick<Entry, 'action' | 'subject'>): string[][] {
  const subject = e.subject.replace(/\.$/, '')
  switch (e.action.split('.')[0]) {
    case 'domain':
      return [['domains']]
    case 'handover':
      return [['domains'], ['handovers'], ['acts']]
    case 'delegate':
    case 'nameservers-saved':
    case 'nameservers-activated':
    case 'host-written':
    case 'ds-written':
    case 'lock':
    case 'lock-written':
    case 'ds':
    case 'delegation':
      return [['domains'], ['acts']]
    case 'retire':
    case 'zone-removed':
      return [['zones', subject], ['zones', subject + '.'], ['domains'], ['acts']]
    case 'zone':
      if (e.action === 'zone.gathered') return [['gatherings']]
      return [['zones', subject], ['zones', subject + '.'], ['domains']]
    case 'draft':
    case 'sync':
    case 'records':
      return [['zones', subject], ['zones', subject + '.'], ['domains']]
    case 'alias':
    case 'operation':
      return [['zones'], ['search'], ['operations']]
    case 'tsig-key':
      return [['tsig-keys']]
    case 'host':
    case 'location':
      return [['hosts'], ['locations'], ['zones']]
    case 'hold':
      return [['hold'], ['zones']]
    case 'user':
    case 'token':
      return [['users'], ['tokens']]
    case 'account':
    case 'key':
      return [['accounts']]
    case 'placement':
    case 'drift':
      return [['zones', subject], ['zones', subject + '.'], ['accounts'], ['hold']]
  }
  return []
}

/** A single event is shown after a moment; in a stream of them the page is brought up to date once in a while. */
const moment = 50
const pace = 1000

/** How many lines of the logbook are kept on a page. */
const lines = 100

/** Puts new lines on top of those that a page of the logbook shows, so that nothing has to be asked for. */
export function withNews(page: { items: Entry[]; next: string }, news: Entry[], subject: string): { items: Entry[]; next: string } {
  const known = new Set(page.items.slice(0, news.length + 50).map((e) => e.id))
  const fresh = news.filter((e) => !known.has(e.id) && (subject === '' || e.subject === subject))
  return fresh.length === 0 ? page : { ...page, items: [...fresh.reverse(), ...page.items].slice(0, lines) }
}

/** Follows the stream until the function that it gives is called. */
export function followEvents(client: QueryClient): () => void {
  let source: EventSource | undefined
  let last = ''
  let timer: ReturnType<typeof setTimeout> | undefined
  let again: ReturnType<typeof setTimeout> | undefined
  const stale = new Map<string, string[]>()
  let news: Entry[] = []
  let refreshed = 0

  const refresh = () => {
    timer = undefined
    refreshed = performance.now()
    for (const queryKey of stale.values()) void client.invalidateQueries({ queryKey })
    for (const query of client.getQueryCache().findAll({ queryKey: ['logbook'] })) {
      const [, subject, requests] = query.queryKey as [string, string, boolean]
      if (requests) void client.invalidateQueries({ queryKey: query.queryKey }) // the stream leaves requests out
      else client.setQueryData<{ items: Entry[]; next: string }>(query.queryKey, (page) => page && withNews(page, news, subject))
    }
    stale.clear()
    news = []
  }
  const open = () => {
    source = new EventSource('/api/v1/events' + (last && '?after=' + last))
    source.onopen = () => {
      void client.invalidateQueries() // what was read before may have missed something
      become('open')
    }
    source.onmessage = (message) => {
      last = message.lastEventId
      const entry = JSON.parse(message.data) as Entry
      news.push(entry)
      for (const key of outOfDate(entry)) stale.set(key.join('\n'), key)
      timer ??= setTimeout(refresh, Math.max(moment, refreshed + pace - performance.now()))
    }
    source.addEventListener('away', (message) => {
      become('lost', Date.parse((JSON.parse((message as MessageEvent<string>).data) as { since: string }).since))
    })
    source.onerror = () => {
      become('lost')
      if (source?.readyState !== EventSource.CLOSED) return // the browser tries again by itself
      again = setTimeout(open, 1000)
      void client.invalidateQueries({ queryKey: ['me'] }) // signed out since then?
    }
  }
  open()
  return () => {
    clearTimeout(timer)
    clearTimeout(again)
    source?.close()
  }
}
