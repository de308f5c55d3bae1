// Simulated time, in which TTLs run: asked of the service now and then, and carried on in between.
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { get, post } from './client'

type Reading = { world: number; rate: number; read: number }

async function readClock(signal?: AbortSignal): Promise<Reading> {
  const asked = performance.now()
  const now = await get('/clock', {}, signal)
  return { world: Date.parse(now.world), rate: now.rate, read: (asked + performance.now()) / 2 }
}

/** World time as of now in milliseconds, again every so many; undefined until the clock has been read. */
export function useWorld(every = 250): { now: number; rate: number } | undefined {
  const { data } = useQuery({ queryKey: ['clock'], queryFn: ({ signal }) => readClock(signal), refetchInterval: 20_000, staleTime: 10_000 })
  const [, tick] = useState(0)
  useEffect(() => {
    const timer = setInterval(() => tick((n) => n + 1), every)
    return () => clearInterval(timer)
  }, [every])
  return data && { now: worldAt(data, performance.now()), rate: data.rate }
}

export const worldAt = (r: Reading, at: number) => r.world + (at - r.read) * r.rate

/** Skips simulated time to a moment, step by step: what is due in between is done in order. Demo only. */
export function useSkip() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: async (until: number) => {
      for (let reached = false; !reached; ) {
        const now = await post('/clock/steps', {}, { until: new Date(until).toISOString() })
        client.setQueryData<Reading>(['clock'], { world: Date.parse(now.world), rate: now.rate, read: performance.now() })
        reached = now.reached ?? false
      }
    },
    onSettled: () => client.invalidateQueries({ queryKey: ['clock'] }),
  })
}
