// The event stream: what happens at the service makes what is shown here out of date, and a broken stream is said.
import type { QueryClient } from '@tanstack/react-query'
import { useSyncExternalStore } from 'react'
import type { Entry } from './types'

export type Connection = { state: 'opening' | 'open' | 'lost'; since: number }

let connection: Connection = { state: 'opening', since: Date.now() }
const listeners = new Set<() => void>()

function become(state: Connection['state']) {
  if (state === connection.state) return
  connection = { state, since: Date.now() }
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
    case 'delegation':
      return [['domains'], ['logbook']]
    case 'zone':
    case 'sync':
    case 'records':
      return [['zones', subject], ['zones', subject + '.'], ['domains'], ['syncs'], ['logbook']]
    case 'host':
      return [['hosts'], ['zones'], ['logbook']]
    case 'account':
      return [['accounts'], ['logbook']]
  }
  return [['logbook']]
}

/** How long what is out of date is gathered before it is asked for anew, in milliseconds. */
const gathering = 200

/** Follows the stream until the function that it gives is called. */
export function followEvents(client: QueryClient): () => void {
  let source: EventSource | undefined
  let last = ''
  let timer: ReturnType<typeof setTimeout> | undefined
  let again: ReturnType<typeof setTimeout> | undefined
  const stale = new Map<string, string[]>()

  const refresh = () => {
    timer = undefined
    for (const queryKey of stale.values()) void client.invalidateQueries({ queryKey })
    stale.clear()
  }
  const open = () => {
    source = new EventSource('/api/v1/events' + (last && '?after=' + last))
    source.onopen = () => {
      void client.invalidateQueries() // what was read before may have missed something
      become('open')
    }
    source.onmessage = (message) => {
      last = message.lastEventId
      for (const key of outOfDate(JSON.parse(message.data) as Entry)) stale.set(key.join('\n'), key)
      timer ??= setTimeout(refresh, gathering)
    }
    source.onerror = () => {
      become('lost')
      if (source?.readyState !== EventSource.CLOSED) return // the browser tries again by itself
      again = setTimeout(open, 1000)
      void client.invalidateQueries({ queryKey: ['me'] }) // signed out meanwhile?
    }
  }
  open()
  return () => {
    clearTimeout(timer)
    clearTimeout(again)
    source?.close()
  }
}
