// How fast the console is on this machine. Nothing here fails for being slow: it prints what it measured.
import type { Browser } from 'playwright-core'
import { afterAll, beforeAll, test } from 'vitest'
import { address, launch, open, password } from './deck'

const zone = 'gauges.example'
const hosts = Array.from({ length: 10 }, (_, i) => `gauge-${i}.${zone}`)
const tokens: string[] = []
let browser: Browser
let session = ''

async function call(method: string, path: string, body?: unknown): Promise<never> {
  const res = await fetch(`${address}/api/v1${path}`, { method, body: JSON.stringify(body), headers: { Authorization: `Bearer ${session}` } })
  if (!res.ok) throw new Error(`${path}: ${await res.text()}`)
  return (await res.json()) as never
}

beforeAll(async () => {
  browser = await launch()
  session = (await call('POST', '/sessions', { name: 'admin', password }) as { token: string }).token
  const text = `zones:\n  ${zone}:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n`
  await call('POST', '/definitions', { files: [{ name: 'x', text }], dry_run: false })
  await call('POST', `/zones/${zone}/syncs`, { account: '', allow: [], expect: '', revert: false })
  await call('POST', `/domains/${zone}/checks`)
  for (const name of hosts) tokens.push((await call('POST', '/hosts', { name, v4: true, v6: false }) as { token: string }).token)
})
afterAll(() => browser?.close())

async function signedIn() {
  const { page } = await open(browser)
  await page.goto(address + '/sign-in')
  await page.getByLabel('Name').fill('admin')
  await page.getByLabel('Password').fill(password)
  await page.keyboard.press('Enter')
  await page.getByRole('heading', { name: 'Today', level: 1 }).waitFor()
  return page
}

test('every page, from the first byte asked to its content', async () => {
  const page = await signedIn()
  const times: string[] = []
  for (const path of ['/', `/domains/${zone}`, `/domains/${zone}/records`, `/domains/${zone}/changes`, '/hosts', `/hosts/${hosts[0]}`, '/apply', '/logbook']) {
    const runs: number[] = []
    for (let i = 0; i < 5; i++) {
      const begun = performance.now()
      await page.goto(address + path, { waitUntil: 'commit' })
      await page.getByRole('heading', { level: 1 }).waitFor()
      await page.locator('main:not(:has([role=status][aria-label=Loading]))').waitFor()
      runs.push(performance.now() - begun)
    }
    times.push(`${path.replace(zone, 'ZONE')} ${Math.round(runs.sort((a, b) => a - b)[2]!)} ms`)
  }
  console.log(`console: median of 5 until a page can be used: ${times.join(', ')}`)
})

type TraceEvent = { name: string; ph: string; ts: number; dur?: number; tid: number; pid: number }
const script = new Set(['EvaluateScript', 'v8.evaluateModule', 'FunctionCall', 'TimerFire', 'EventDispatch', 'FireAnimationFrame', 'RunMicrotasks', 'v8.callFunction'])

/** Script time of each frame, in ms: what ran on the page's thread between two animation frames, nested calls counted once. */
function perFrame(events: TraceEvent[]): number[] {
  const frames = events.filter((e) => e.name === 'FireAnimationFrame').sort((a, b) => a.ts - b.ts)
  const thread = frames[0]!
  const work = events.filter((e) => e.ph === 'X' && script.has(e.name) && e.tid === thread.tid && e.pid === thread.pid).sort((a, b) => a.ts - b.ts)
  const sums = new Array<number>(frames.length).fill(0)
  let end = 0
  let frame = 0
  for (const e of work) {
    if (e.ts < end) continue // within one that is counted
    end = e.ts + (e.dur ?? 0)
    while (frame + 1 < frames.length && frames[frame + 1]!.ts <= e.ts) frame++
    sums[frame]! += (e.dur ?? 0) / 1000
  }
  return sums.sort((a, b) => a - b)
}

test('script time in each frame while events stream in', async () => {
  for (const path of ['/logbook', '/hosts', `/hosts/${hosts[0]}`, `/domains/${zone}/records`]) {
    const page = await signedIn()
    await page.goto(address + path)
    await page.waitForTimeout(1000)
    await page.evaluate(() => {
      const again = () => requestAnimationFrame(again)
      again()
    })
    const [before] = (await call('GET', '/logbook?limit=1') as { items: { id: number }[] }).items
    await browser.startTracing(page, { categories: ['devtools.timeline', 'v8'] })
    const until = performance.now() + 6000
    let n = 0
    await Promise.all(
      tokens.map(async (token) => {
        while (performance.now() < until) {
          await fetch(`${address}/api/v1/report?v4=198.51.100.${++n % 250}`, { headers: { Authorization: `Bearer ${token}` } })
          await new Promise((done) => setTimeout(done, 30))
        }
      }),
    )
    const trace = JSON.parse((await browser.stopTracing()).toString()) as { traceEvents: TraceEvent[] }
    const [after] = (await call('GET', '/logbook?limit=1') as { items: { id: number }[] }).items
    const frames = perFrame(trace.traceEvents)
    const busy = frames.filter((ms) => ms > 0.5)
    const at = (list: number[], share: number) => (list[Math.floor(list.length * share)] ?? 0).toFixed(1)
    console.log(
      `console: ${path.replace(zone, 'ZONE')}: ${Math.round((after!.id - before!.id) / 6)} lines a second; script in a frame p50 ${at(frames, 0.5)} ms, p95 ${at(frames, 0.95)} ms, most ${at(frames, 0.9999)} ms (${frames.length} frames); p95 of the ${busy.length} frames with work ${at(busy, 0.95)} ms`,
    )
    await page.context().close()
  }
})

test('ten thousand records: from the click to the page, and scrolling', async () => {
  const buoys = 'buoys.example'
  const text = '$TTL 3600\n' + Array.from({ length: 10_000 }, (_, i) => `buoy-${String(i).padStart(5, '0')} A 198.51.100.${i % 250}\n`).join('')
  await call('POST', `/zones/${buoys}/imports`, { file: 'buoys.zone', text, dry_run: false })
  const page = await signedIn()
  const opened: number[] = []
  for (let i = 0; i < 5; i++) {
    await page.goto(`${address}/domains/${buoys}/history`)
    await page.getByText('10000 records').waitFor()
    const begun = performance.now()
    await page.getByRole('link', { name: 'Records' }).click()
    await page.getByRole('button', { name: /buoy-00005/ }).waitFor()
    opened.push(performance.now() - begun)
  }
  await page.mouse.move(640, 600)
  await browser.startTracing(page, { categories: ['devtools.timeline', 'v8'] })
  await page.evaluate(() => {
    const again = () => requestAnimationFrame(again)
    again()
  })
  const begun = performance.now()
  for (let i = 0; i < 300; i++) await page.mouse.wheel(0, 120) // notches of a wheel, as fast as they are taken
  const rate = Math.round(36_000 / ((performance.now() - begun) / 1000))
  await page.waitForTimeout(500)
  const trace = JSON.parse((await browser.stopTracing()).toString()) as { traceEvents: TraceEvent[] }
  const frames = perFrame(trace.traceEvents)
  const top = await page.evaluate(() => Math.round(window.scrollY))
  console.log(
    `console: 10000 records usable ${opened.map((ms) => Math.round(ms)).sort((a, b) => a - b).join(', ')} ms after the click; while scrolling ${top} px, ${rate} in a second, script in a frame p50 ${frames[Math.floor(frames.length * 0.5)]!.toFixed(1)} ms, p95 ${frames[Math.floor(frames.length * 0.95)]!.toFixed(1)} ms (${frames.length} frames)`,
  )
  await page.context().close()
})
