// Records changed in the console, on the running whole: by form, by paste, by what a finding offers, by two people at once; a
// zone taken over from its files; forty zones changed in one step. By keyboard, held against axe.
import type { Browser } from 'playwright-core'
import { afterAll, beforeAll, expect, test } from 'vitest'
import { accessible, address, choose, launch, open, password, press, signIn, tabTo, type, type Watched } from './deck'

const zone = 'tidepool.example'
let browser: Browser
let admin: Watched
let bearer = ''

async function ask<T>(method: string, path: string, body?: unknown): Promise<T> {
  const res = await fetch(address + '/api/v1' + path, {
    method, headers: { 'Content-Type': 'application/json', ...(bearer && { Authorization: `Bearer ${bearer}` }) }, body: body === undefined ? undefined : JSON.stringify(body),
  })
  const text = await res.text()
  if (!res.ok) throw new Error(`${method} ${path}: ${text}`)
  return (text ? JSON.parse(text) : undefined) as T
}

const define = (text: string, manage: boolean) => ask('POST', '/definitions', { files: [{ name: 'tidepool.beacon.yaml', text }], dry_run: false, manage, reason: '' })
const recordsOf = async (name: string) =>
  (await ask<{ items: { name: string; type: string; data: string }[] }>('GET', `/zones/${name}/records`)).items.map((r) => `${r.name.replace(`.${name}.`, '')} ${r.type} ${r.data}`)

beforeAll(async () => {
  browser = await launch()
  bearer = (await ask<{ token: string }>('POST', '/sessions', { name: 'admin', password, browser: false })).token
  await define(`zones:\n  ${zone}:\n    providers: [heron-main]\n    records: |\n      @ 300 A 192.0.2.40\n      @ MX 10 mx1.post.example.\n      gauge A 198.51.100.31\n      gauge A 198.51.100.32\n`, false)
  admin = await open(browser)
  await signIn(admin.page)
})
afterAll(async () => {
  expect(admin.faults).toEqual([])
  await browser?.close()
})

const table = (w: Watched) => w.page.getByRole('table', { name: 'Records' })
const bar = (w: Watched) => w.page.getByRole('region', { name: 'Draft', exact: true })
const button = (w: Watched, name: string | RegExp) => w.page.getByRole('button', { name })

test('a record is changed by the fields of its type, one is added, one is taken out', async () => {
  const { page } = admin
  await page.goto(`${address}/domains/${zone}/records`)
  await table(admin).getByRole('cell', { name: '10 mx1.post.example.', exact: true }).waitFor()
  await accessible(page, 'records of a zone')
  await press(page, button(admin, /^(Edit|Look) @ MX/))
  await accessible(page, 'a form')
  await type(page, page.getByLabel('Preference'), 'ten')
  admin.expected(/422/)
  await press(page, button(admin, 'Change it in the draft'))
  await page.getByText('“ten”').or(page.getByText('"ten" is no number from 0 to 65535')).waitFor()
  admin.expected(/^$/)
  await type(page, page.getByLabel('Preference'), '20')
  await page.keyboard.press('Enter')
  await bar(admin).getByText('1 added, 1 removed').waitFor()
  await expect.poll(() => button(admin, /^(Edit|Look) @ MX/).count()).toBe(1)

  await press(page, button(admin, 'Add a record'))
  await type(page, page.getByLabel('Name', { exact: true }), 'cam')
  await choose(page, page.getByLabel('Type', { exact: true }), 'AAAA')
  await type(page, page.getByLabel('IPv6 address'), '2001:db8::17')
  await page.keyboard.press('Enter')
  await bar(admin).getByText('2 added, 1 removed').waitFor()
  await press(page, button(admin, /^(Edit|Look) gauge A 198.51.100.32/))
  await press(page, button(admin, 'Remove record'))
  await bar(admin).getByText('2 added, 2 removed').waitFor()
  await accessible(page, 'a draft')
})

test('what a finding offers goes into the draft with one press', async () => {
  const { page } = admin
  const missing = button(admin, /findings about missing records/)
  await tabTo(page, missing)
  await page.keyboard.press('Enter')
  await accessible(page, 'findings')
  await press(page, button(admin, /^Add fix to draft.*www missing/))
  await bar(admin).getByText('3 added, 2 removed').waitFor()
  await expect.poll(() => page.getByText('www missing').count()).toBe(0)
})

test('records are pasted from a page, and each line is told what it was taken for', async () => {
  const { page } = admin
  await press(page, button(admin, 'Paste records'))
  await page.keyboard.insertText('Type\tHost\tValue\tTTL\nCNAME\tbook\thttps://booking.harbour.example/start\t1 hour\nthis is none\n')
  await page.getByText('only the host was used').waitFor()
  await page.getByText('1 line could not be read').waitFor()
  await accessible(page, 'pasted records')
  await press(page, button(admin, 'Add 1 record to the draft'))
  await bar(admin).getByText('4 added, 2 removed').waitFor()
})

test('two people see each other’s edits, and put them out together', async () => {
  const { page } = admin
  const { password: hers } = await ask<{ password: string }>('POST', '/users', { name: 'petra', grants: [{ role: 'editor' }] })
  const petra = await open(browser)
  await signIn(petra.page, 'petra', hers)
  await petra.page.goto(`${address}/domains/${zone}/records`)
  await bar(petra).getByText('also by admin').waitFor()

  // The admin has a form open while Petra changes something.
  await press(page, button(admin, /^(Edit|Look) @ A/))
  await press(petra.page, button(petra, /^(Edit|Look) gauge A 198.51.100.31/))
  await type(petra.page, petra.page.getByLabel('IPv4 address'), '198.51.100.39')
  await petra.page.keyboard.press('Enter')
  await bar(petra).getByText('5 added, 3 removed').waitFor()
  await bar(admin).getByText('also by petra').waitFor()
  await type(page, page.getByLabel('IPv4 address'), '192.0.2.41')
  await page.keyboard.press('Enter')
  await bar(admin).getByText('6 added, 4 removed').waitFor()
  await bar(petra).getByText('6 added, 4 removed').waitFor()

  // Somebody who looked at an earlier draft is refused, and nothing of the others is lost.
  await expect(fetch(`${address}/api/v1/zones/${zone}/draft`, { method: 'DELETE', headers: { Authorization: `Bearer ${bearer}`, 'If-Match': '"1.1"' } }).then((r) => r.status)).resolves.toBe(412)
  await press(page, button(admin, 'Show the change list'))
  await accessible(page, 'the change list of a draft')
  await type(page, page.getByLabel('Reason, for the logbook'), 'the booking site moved')
  await press(page, button(admin, 'Accept draft'))
  await page.getByText('Saved as revision 2.').waitFor()
  await bar(petra).waitFor({ state: 'detached' })
  expect(await recordsOf(zone)).toEqual(expect.arrayContaining(['gauge A 198.51.100.39', `${zone}. A 192.0.2.41`, 'book CNAME booking.harbour.example.']))
  await petra.page.context().close()
  expect(petra.faults).toEqual([])
})

test('the history tells who did it and why, and the name’s own', async () => {
  const { page } = admin
  await press(page, page.getByRole('navigation', { name: `Views of ${zone}` }).getByRole('link', { name: 'History' }))
  await page.getByText('the booking site moved').waitFor()
  await type(page, page.getByLabel('Name'), 'gauge')
  await page.getByText('198.51.100.39').first().waitFor()
  await accessible(page, 'history')
})

test('a zone that files lead is taken over, and written back with its kit', async () => {
  const { page } = admin
  const led = `kits:\n  pool:\n    parameters: {site: ipv4}\n    records: |\n      @ A \${site}\n      www CNAME @\nzones:\n  rockpool.example:\n    kits: [{pool: {site: 192.0.2.40}}]\n    records: |\n      cam A 192.0.2.7\n`
  await define(led, true)
  await page.goto(`${address}/domains/rockpool.example/records`)
  await page.getByText('Managed by tidepool.beacon.yaml').waitFor()
  await expect(button(admin, 'Add a record').count()).resolves.toBe(0)
  await accessible(page, 'a zone led by files')
  await press(page, button(admin, 'Detach from file…'))
  await press(page, button(admin, 'Detach rockpool.example'))
  await press(page, button(admin, /^(Edit|Look) cam A/))
  await type(page, page.getByLabel('IPv4 address'), '192.0.2.8')
  await page.keyboard.press('Enter')
  await press(page, button(admin, 'Accept draft'))
  await page.getByText('Saved as revision 2.').waitFor()
  const { text } = await ask<{ text: string }>('GET', '/zones/rockpool.example/definition')
  expect(text).toContain('kits: [{pool: {site: 192.0.2.40}}]\n    records: |\n      cam A 192.0.2.8\n')
})

test('forty zones are changed in one step, and changed back', async () => {
  const { page } = admin
  const piers = Array.from({ length: 40 }, (_, i) => `  pier-${i}.example:\n    records: |\n      @ 300 A 203.0.113.40\n      www CNAME @\n`).join('')
  await define('zones:\n' + piers, false)
  await press(page, page.getByRole('navigation', { name: 'Main' }).getByRole('link', { name: 'Search' }))
  await type(page, page.getByRole('searchbox'), '203.0.113.40')
  await page.getByText('40 records', { exact: true }).waitFor()
  await accessible(page, 'search')
  await press(page, button(admin, /Bulk replace/))
  await type(page, page.getByLabel('New data of the records'), '203.0.113.50')
  await page.keyboard.press('Enter')
  await page.getByText('40 records in 40 zones:').waitFor()
  await accessible(page, 'a change of forty zones')
  await press(page, button(admin, 'Change 40 records in 40 zones'))
  await page.getByText('40 records in 40 zones: to 203.0.113.50').first().waitFor()
  expect(await recordsOf('pier-39.example')).toContain('pier-39.example. A 203.0.113.50')
  await press(page, button(admin, /^Undo…/))
  await press(page, button(admin, 'Undo bulk change'))
  await page.getByText(/undone by (operation|bulk change)/).waitFor()
  expect(await recordsOf('pier-39.example')).toContain('pier-39.example. A 203.0.113.40')
  await type(page, page.getByRole('searchbox'), '203.0.113.40')
  await page.getByText('40 records', { exact: true }).waitFor()
})
