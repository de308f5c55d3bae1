// What the browser tests stand on: a browser that keeps watch over everything that must not happen, and hands that
// use the keyboard only.
import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { type Browser, chromium, type Locator, type Page } from 'playwright-core'
import { expect } from 'vitest'

export const address = process.env.CONSOLE_ADDRESS ?? 'http://127.0.0.1:8053'
export const password = process.env.CONSOLE_PASSWORD ?? ''
const control = process.env.CONSOLE_CONTROL ?? ''

/** Ends or starts the service, as a crash and a restart would. */
export async function service(what: 'kill' | 'start') {
  const res = await fetch(`${control}/${what}`, { method: 'POST' })
  if (!res.ok) throw new Error(await res.text())
}

export function launch(): Promise<Browser> {
  return chromium.launch({
    executablePath: process.env.CONSOLE_BROWSER ?? '/usr/bin/chromium',
    args: ['--no-sandbox', '--disable-gpu', '--disable-background-networking', '--disable-component-update', '--disable-sync', '--no-first-run'],
  })
}

/** A page, and what happened on it that must not: errors, refusals by the policy, requests to anywhere else. */
export type Watched = { page: Page; faults: string[]; expected: (what: RegExp) => void }

export async function open(browser: Browser, size = { width: 1280, height: 800 }): Promise<Watched> {
  const context = await browser.newContext({ viewport: size, colorScheme: 'light', reducedMotion: 'reduce' })
  context.setDefaultTimeout(20_000)
  const page = await context.newPage()
  const faults: string[] = []
  let allowed: RegExp | undefined
  const fault = (text: string) => {
    if (text.includes('status of 503')) return // a busy machine's database may be away for a moment; the page asks again
    if (!allowed?.test(text)) faults.push(text)
  }
  page.on('console', (m) => {
    if (m.type() === 'error' || m.type() === 'warning') fault(`${m.type()}: ${m.text()} (${page.url()})`)
  })
  page.on('pageerror', (e) => fault(`broken: ${e.message}`))
  page.on('request', (r) => {
    if (!r.url().startsWith(address + '/')) fault(`a request to ${r.url()}`)
  })
  await page.addInitScript(() => {
    document.addEventListener('securitypolicyviolation', (e) => console.error(`policy: ${e.violatedDirective} ${e.blockedURI} ${e.sample}`))
  })
  return { page, faults, expected: (what) => (allowed = what) }
}

const axe = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8')

/** Looks at the page as it stands, in both themes: nothing that axe knows may be wrong with it. */
export async function accessible(page: Page, what: string) {
  for (const colorScheme of ['light', 'dark'] as const) {
    await page.emulateMedia({ colorScheme })
    await page.evaluate(axe)
    const only = colorScheme === 'light' ? {} : { runOnly: ['color-contrast'] } // nothing but colours differs between the themes
    const violations = await page.evaluate(async (only) => {
      const { violations } = await (globalThis as never as { axe: { run: (options: object) => Promise<{ violations: { id: string; nodes: { html: string; failureSummary: string }[] }[] }> } }).axe.run(only)
      return violations.map((v) => `${v.id}: ${v.nodes.map((n) => `${n.html} ${n.failureSummary}`).join('\n  ')}`)
    }, only)
    expect(violations, `${what}, ${colorScheme}`).toEqual([])
  }
  await page.emulateMedia({ colorScheme: 'light' })
  const wide = await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth)
  expect(wide, `${what} is wider than the screen`).toBeLessThanOrEqual(0)
}

/** Goes to something with the Tab key alone, as somebody without a mouse does. */
export async function tabTo(page: Page, target: Locator) {
  await target.waitFor()
  for (let i = 0; i < 120; i++) {
    if (await target.evaluate((e) => e === document.activeElement)) return
    await page.keyboard.press('Tab')
  }
  throw new Error(`the Tab key does not lead to ${target}`)
}

/** Presses a button, follows a link or ticks a box, by keyboard. */
export async function press(page: Page, target: Locator) {
  await tabTo(page, target)
  const box = (await target.getAttribute('role')) === 'checkbox'
  await page.keyboard.press(box ? 'Space' : 'Enter')
}

/** Types into a field, by keyboard. */
export async function type(page: Page, target: Locator, text: string) {
  await tabTo(page, target)
  await page.keyboard.press('Control+A')
  await page.keyboard.insertText(text)
}

/** Chooses one of several, by keyboard. */
export async function choose(page: Page, target: Locator, option: string) {
  await press(page, target)
  const item = page.getByRole('option', { name: option, exact: true })
  await item.waitFor()
  await page.keyboard.press('Home')
  for (let i = 0; i < 100 && !(await item.evaluate((e) => e === document.activeElement)); i++) await page.keyboard.press('ArrowDown')
  await page.keyboard.press('Enter')
  await item.waitFor({ state: 'detached' })
}

export async function signIn(page: Page, name = 'admin', word = password) {
  await page.goto(address + '/')
  await type(page, page.getByLabel('Name'), name)
  await type(page, page.getByLabel('Password'), word)
  await page.keyboard.press('Enter')
  await page.getByRole('heading', { name: 'Today', level: 1 }).waitFor()
}
