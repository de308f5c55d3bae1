// The console on the running whole, from the first sign-in to a settled domain and an address that arrives by itself.
// Everything is done by keyboard; every page is held against axe in both themes. The tests build on one another.
import type { Browser } from 'playwright-core'
import { afterAll, afterEach, beforeAll, expect, test } from 'vitest'
import { accessible, address, choose, launch, open, password, press, service, signIn, tabTo, type, type Watched } from './deck'

const domain = 'saltmarsh-ferries.example'
const host = `pier-cam.${domain}`
let browser: Browser
let watched: Watched
let token = ''

beforeAll(async () => {
  browser = await launch()
  watched = await open(browser)
})
afterAll(() => browser?.close())
afterEach(() => expect(watched.faults.splice(0)).toEqual([]))

const button = (name: string | RegExp) => watched.page.getByRole('button', { name })
const link = (name: string | RegExp) => watched.page.getByRole('link', { name })
const main = () => watched.page.getByRole('main')
const view = (name: string) => watched.page.getByRole('navigation', { name: `Views of ${domain}` }).getByRole('link', { name })

test('signing in: a wrong password is said, the right one leads to the domains', async () => {
  const { page, expected } = watched
  await page.goto(address + '/logbook')
  await page.getByLabel('Name').waitFor()
  await accessible(page, 'sign-in')
  expected(/401/) // the browser itself writes down a refused sign-in
  await type(page, page.getByLabel('Name'), 'admin')
  await type(page, page.getByLabel('Password'), password + 'x')
  await page.keyboard.press('Enter')
  await page.getByRole('alert').getByText('Name or password is wrong.').waitFor()
  await accessible(page, 'a refused sign-in')
  await type(page, page.getByLabel('Password'), password)
  await page.keyboard.press('Enter')
  await page.getByRole('heading', { name: 'Logbook' }).waitFor() // where one wanted to go
  await page.getByText('live', { exact: true }).waitFor()
  await accessible(page, 'logbook')
  expected(/^$/)
})

test('a domain is brought in from the old provider', async () => {
  const { page } = watched
  await press(page, link('Domains'))
  await page.getByText('No domains yet').waitFor()
  await page.getByText(`Registered at gannet-main`).waitFor()
  await accessible(page, 'no domains')
  await press(page, link(/^Add domain/))
  await page.getByText('Gannet Names').waitFor()
  await press(page, button('Find records'))
  await page.getByText('all records that the account lists').waitFor()
  await button('Accept as desired records').waitFor()
  await accessible(page, 'records found')
  await press(page, link('apply a definition'))
  await page.getByText('It is served by').waitFor()
  await press(page, button('Generate definition'))
  await page.getByText('Choose at least one provider').waitFor()
  await press(page, page.getByRole('checkbox', { name: 'heron-main' }))
  await press(page, button('Generate definition'))
  await page.getByText('Generated from plover-old').waitFor()
  await expect(page.getByLabel('Definition', { exact: true }).inputValue()).resolves.toContain('providers: [heron-main]')
  await press(page, button('Review changes'))
  await page.getByText('14 records added, 0 removed').waitFor()
  await accessible(page, 'a definition looked over')
  await press(page, button(/^Accept as desired records/))
  await press(page, link(/^Review and sync/))
})

test('faults of a definition are said with their places, and nothing is taken', async () => {
  const { page, expected } = watched
  expected(/422/)
  await press(page, page.getByRole('navigation', { name: 'Main' }).getByRole('link', { name: 'Apply' }))
  await type(page, page.getByLabel('Definition', { exact: true }), `zones:\n  ${domain}:\n    records: |\n      www A 192.0.2.300\n`)
  await press(page, button('Review changes'))
  await page.getByText('pasted.beacon.yaml:4:13').waitFor()
  await expect(button(/^Accept as desired records/).count()).resolves.toBe(0)
  await accessible(page, 'a faulty definition')
  expected(/^$/)
  await page.goBack()
})

test('the change list is shown, written, and its progress followed', async () => {
  const { page } = watched
  await page.goto(`${address}/domains/${domain}/changes`)
  await page.getByText('13 to add, 0 to change, 0 to remove').waitFor()
  await accessible(page, 'changes')
  await press(page, button('Sync to heron-main'))
  await page.getByText('13 added, 0 changed, 0 removed, in 1 request.').waitFor()
  await page.getByText('The provider has the desired records.').waitFor()
  await accessible(page, 'changes written')
  await press(page, view('Records'))
  await type(page, page.getByRole('searchbox', { name: 'Find' }), 'gauge')
  await page.getByText('3 of 14 records').waitFor()
  await accessible(page, 'records')
  await press(page, view('History'))
  await page.getByText('Revision 1', { exact: true }).waitFor()
})

test('the nameservers are changed, and the trap on the way is explained', async () => {
  const { page } = watched
  await press(page, link(/^Move the domain/))
  await page.getByText('Move this domain to another provider').waitFor()
  await page.getByLabel('New provider').getByText('heron-main').waitFor()
  await press(page, view('Delegation'))
  await page.getByText('The registrar has another list active.').waitFor()
  await press(page, button('Compute timetable'))
  await page.getByText('The handover is done').waitFor()
  await page.getByText('Wait until no cache asks the old nameservers').waitFor()
  await accessible(page, 'before delegating')
  await press(page, button('Save without activating'))
  await page.getByText('The list is saved at the registrar, and not active.').waitFor()
  await accessible(page, 'saved, not active')
  await press(page, view('Chain'))
  await page.getByText('Saved, not active').first().waitFor()
  await accessible(page, 'chain, saved only')
  await press(page, view('Delegation'))
  await press(page, button('Make the list active'))
  await page.getByText('The registrar has these nameservers active.').waitFor()
  await accessible(page, 'active')
})

test('the delegation is watched until it is settled, without a reload', async () => {
  const { page } = watched
  await press(page, link('Watch which resolvers see them'))
  const dial = page.getByRole('timer')
  await dial.waitFor()
  const first = await dial.textContent()
  await accessible(page, 'chain, settling')
  await expect.poll(() => dial.textContent(), { timeout: 5000 }).not.toBe(first) // it counts down
  await main().getByText('Settled', { exact: true }).first().waitFor({ timeout: 60_000 })
  await dial.waitFor({ state: 'detached' })
  await page.getByText('How long the last change took').waitFor()
  await accessible(page, 'chain, settled')
  await press(page, link('Domains'))
  await main().getByText('Settled', { exact: true }).first().waitFor()
  await accessible(page, 'domains')
})

test('a definition is dropped onto the page', async () => {
  const { page } = watched
  await page.goto(address + '/apply')
  const files = await page.evaluateHandle(() => {
    const data = new DataTransfer()
    data.items.add(new File(['zones: {}\n'], 'dropped.beacon.yaml'))
    return data
  })
  await page.getByLabel('Definition', { exact: true }).dispatchEvent('drop', { dataTransfer: files })
  await page.getByText('dropped.beacon.yaml').waitFor()
  await expect(page.getByLabel('Definition', { exact: true }).inputValue()).resolves.toBe('zones: {}\n')
})

test('a guard holds until somebody says yes', async () => {
  const { page } = watched
  await page.goto(address + '/apply')
  const text = `zones:\n  ${domain}:\n    providers: [heron-main]\n    registrar: gannet-main\n    records: |\n      @ 300 A 192.0.2.40\n      www 300 CNAME @\n      pier-cam 60 A 198.51.100.17\n`
  const [chooser] = await Promise.all([page.waitForEvent('filechooser'), press(page, button('Pick a file'))])
  await chooser.setFiles({ name: 'fewer.beacon.yaml', mimeType: 'text/plain', buffer: Buffer.from(text) })
  await page.getByText('fewer.beacon.yaml').waitFor()
  await press(page, button('Review changes'))
  await press(page, button(/^Accept as desired records/))
  await press(page, link(/^Review and sync/))
  await page.getByText(/must be allowed before the sync/).waitFor()
  await expect(button('Sync to heron-main').isDisabled()).resolves.toBe(true)
  await accessible(page, 'a guard speaks')
  for (const yes of await page.getByRole('checkbox', { name: 'Allow it' }).all()) await press(page, yes) // names, and mail
  await press(page, button('Sync to heron-main'))
  await page.getByText('The provider has the desired records.').waitFor()
})

test('accounts: a wrong credential is refused, a weak one is told of, and the right one is given back', async () => {
  const { page, expected } = watched
  await press(page, link('Accounts'))
  await page.getByRole('heading', { name: 'curlew-ops' }).waitFor()
  await page.getByText('read records, write records, make and remove zones').first().waitFor()
  await accessible(page, 'accounts')
  await press(page, button('Connect an account'))
  await choose(page, page.getByLabel('Interface', { exact: true }), 'curlew')
  await type(page, page.getByLabel('Name of the account here'), 'curlew-spare')
  await type(page, page.getByLabel('URL of the interface'), 'http://127.0.0.1:1')
  await type(page, page.getByLabel('Credential', { exact: true }), 'desk:nothing')
  expected(/502|503|422|409|400/)
  await page.keyboard.press('Enter')
  await page.getByRole('alert').waitFor()
  await accessible(page, 'an account that cannot be connected')
  expected(/^$/)
  await press(page, button('Cancel'))
  await press(page, button('New credential of heron-main'))
  await type(page, page.getByLabel('New credential of heron-main'), 'heron-owner-key')
  await page.keyboard.press('Enter')
  await page.getByText('The credential may manage credentials').first().waitFor()
  await accessible(page, 'a credential that may too much')
  await press(page, button('Close'))
  await press(page, button('New credential of heron-main'))
  await type(page, page.getByLabel('New credential of heron-main'), 'heron-practice-key')
  await page.keyboard.press('Enter')
  await page.getByText('heron-main has its new credential').waitFor()
  await press(page, button('Close'))
  await press(page, link('Domains'))
  await press(page, link(domain).first())
})

test('an earlier revision is looked at, and gone back to', async () => {
  const { page } = watched
  await press(page, view('History'))
  await press(page, button(/^Changes in revision 2/))
  await page.getByText('_dmarc TXT').first().waitFor()
  await accessible(page, 'a revision')
  await press(page, button(/^Restore it.*revision 1/))
  await page.getByText('Saved as revision 3.').waitFor()
  await press(page, main().getByRole('link', { name: 'review and sync the changes', exact: true }))
  await page.getByText('10 to add, 0 to change, 0 to remove').waitFor()
  await press(page, button('Sync to heron-main'))
  await page.getByText('The provider has the desired records.').waitFor()
})

async function report(query: string): Promise<string> {
  const res = await fetch(`${address}/api/v1/report?${query}`, { headers: { Authorization: `Bearer ${token}` } })
  return (await res.text()).trim()
}

test('a host is made, and its token shown once', async () => {
  const { page } = watched
  await press(page, page.getByRole('navigation', { name: 'Main' }).getByRole('link', { name: 'Dynamic hosts' }))
  await page.getByText('No dynamic hosts yet').waitFor()
  await accessible(page, 'no hosts')
  await press(page, button('Add dynamic host'))
  await accessible(page, 'a new host')
  await type(page, page.getByLabel(/^Name, in a zone/), host)
  await press(page, button('Create token'))
  token = (await page.locator('[data-token]').textContent()) ?? ''
  expect(token).toMatch(/^abh_/)
  await accessible(page, 'a token')
  await page.getByRole('status').getByText('waiting for the first report').waitFor()
  await press(page, button('Close'))
  await expect(page.getByText(token).count()).resolves.toBe(0)
})

test('a report arrives live on the open page', async () => {
  const { page } = watched
  await press(page, link(host))
  await page.getByText('None yet.').waitFor()
  expect(await report('v4=198.51.100.77')).toBe('accepted 198.51.100.77')
  await page.getByText('visible at its nameservers').waitFor()
  await main().getByText('visible', { exact: true }).waitFor()
  expect(await report('v4=198.51.100.77')).toBe('unchanged 198.51.100.77')
  expect(await report('v4=192.168.1.7')).toMatch(/^refused: 192.168.1.7 is private/)
  await page.getByText('192.168.1.7 is private').waitFor()
  await accessible(page, 'a host with reports')
})

test('a lost connection is shown, and healed', async () => {
  const { page, expected } = watched
  expected(/ERR_|Failed to load resource/) // the browser's own words for it
  await service('kill')
  await page.getByText('No connection to the service').waitFor()
  await accessible(page, 'no connection')
  await service('start')
  await page.getByText('No connection to the service').waitFor({ state: 'detached', timeout: 20_000 })
  expect(await report('v4=198.51.100.78')).toBe('accepted 198.51.100.78') // and what happens is seen again
  await main().getByText('198.51.100.78').first().waitFor()
  expected(/^$/)
})

test('a location is made, and a host follows it', async () => {
  const { page } = watched
  await press(page, page.getByRole('navigation', { name: 'Main' }).getByRole('link', { name: 'Dynamic hosts' }))
  await press(page, button('Add location'))
  await type(page, page.getByLabel('Name', { exact: true }), 'pier')
  await type(page, page.getByLabel(/^Uplinks/), 'fibre, lte')
  await press(page, button('Create tokens'))
  const fibre = (await page.locator('[data-token]').first().textContent()) ?? ''
  await accessible(page, 'tokens of a location')
  await press(page, button('Close'))
  await press(page, button('Add dynamic host'))
  await type(page, page.getByLabel(/^Name, in a zone/), `gauge.${domain}`)
  await choose(page, page.getByLabel('Reported with'), 'location pier')
  await press(page, button('Create token'))
  await press(page, page.getByRole('link', { name: 'pier', exact: true }))
  await page.getByText('waiting for the first report').waitFor()
  const res = await fetch(`${address}/api/v1/report?v4=198.51.100.90`, { headers: { Authorization: `Bearer ${fibre}` } })
  expect((await res.text()).trim()).toBe('accepted 198.51.100.90')
  await page.getByText('198.51.100.90').first().waitFor()
  await accessible(page, 'a location')
  await press(page, button('Change policy'))
  await type(page, page.getByLabel('Silent after'), 'soon')
  await choose(page, page.getByLabel('When silent'), 'its address records are removed')
  await press(page, button('Save policy'))
  await page.getByText('Give a time such as').waitFor()
  await type(page, page.getByLabel('Silent after'), '2h')
  await accessible(page, 'a policy')
  await press(page, button('Save policy'))
  await page.getByText('silent after 2 h without a report; then its address records are removed').waitFor()
  await press(page, link(`gauge.${domain}`))
  await page.getByText('now by uplink fibre').waitFor()
  await page.getByText('silent after 2 h').waitFor() // inherited
  await accessible(page, 'a host of a location')
  await press(page, button('Remove dynamic host…'))
  await press(page, button('Remove dynamic host'))
  await press(page, link(host))
})

test('a host is let go, after a question', async () => {
  const { page } = watched
  await press(page, button('Remove dynamic host…'))
  await accessible(page, 'a question')
  await press(page, button('Remove dynamic host'))
  await page.getByText('No dynamic hosts yet').waitFor()
  expect(await report('v4=198.51.100.79')).toMatch(/^refused: the token/)
})

test('Ctrl-K finds domains, records, pages and actions', async () => {
  const { page } = watched
  await page.goto(address + '/')
  await page.getByRole('heading', { name: 'Today', level: 1 }).waitFor()
  await expect.poll(() => page.getByRole('status', { name: 'Loading' }).count()).toBe(0)
  await accessible(page, 'today')
  const field = page.getByPlaceholder('Domain, address, page or action')
  await page.keyboard.press('Control+k')
  await field.waitFor()
  await page.keyboard.type('saltmarsh')
  await page.getByRole('option', { name: new RegExp(domain) }).first().waitFor()
  await accessible(page, 'find anything')
  await page.keyboard.press('Enter')
  await page.getByRole('heading', { name: domain, level: 1 }).waitFor()
  await page.keyboard.press('Control+k')
  await page.keyboard.type('192.0.2.40')
  await page.getByRole('option', { name: /A 192\.0\.2\.40/ }).first().waitFor()
  await page.keyboard.press('Escape')
  await field.waitFor({ state: 'detached' })
  await page.keyboard.press('Control+k')
  await page.keyboard.type('check all')
  await page.keyboard.press('Enter')
  await page.getByText('The brief check of all domains has started.').first().waitFor()
  await page.goto(address + '/findings#nameserver-lame')
  await page.getByText('nameserver-lame', { exact: true }).waitFor()
  await accessible(page, 'findings')
})

test('tokens: one is made for a machine, renewed and revoked', async () => {
  const { page } = watched
  await page.goto(address + '/tokens')
  await page.getByText('dynamic host').or(page.getByText('There is none.')).first().waitFor()
  await accessible(page, 'tokens')
  await press(page, button('Add token'))
  await type(page, page.getByLabel('Name', { exact: true }), 'certificates')
  await press(page, page.getByRole('combobox', { name: 'May' }))
  await page.getByRole('option', { name: 'Change records and sync them, and see nothing else' }).waitFor()
  await page.keyboard.press('Enter')
  await page.getByRole('option').first().waitFor({ state: 'detached' })
  await type(page, page.getByLabel('Only in zones'), domain)
  await type(page, page.getByLabel('Only at names'), '_acme-challenge')
  await type(page, page.getByLabel('Only record types'), 'txt')
  await accessible(page, 'a new token')
  await press(page, button('Create token'))
  const text = await page.getByText(/^abt_[a-z2-7]{59}$/).textContent()
  await accessible(page, 'a token, shown once')
  await press(page, button('Close'))
  await page.getByText(`edit,sync zones=${domain} names=_acme-challenge types=TXT`).waitFor()
  await press(page, button('Renew token certificates'))
  await press(page, page.getByRole('alertdialog').getByRole('button', { name: 'Renew token' }))
  await page.getByText('The text until now is valid until').waitFor()
  expect(await page.getByText(/^abt_[a-z2-7]{59}$/).textContent()).not.toBe(text)
  await press(page, button('Close'))
  await press(page, button('Revoke token certificates'))
  await press(page, page.getByRole('alertdialog').getByRole('button', { name: 'Revoke token' }))
  await page.getByText('edit,sync').waitFor({ state: 'detached' })
})

test('users: one is added and removed, and the own password is changed', async () => {
  const { page, expected } = watched
  await page.goto(address + '/users')
  await page.getByText('this one').waitFor()
  await accessible(page, 'users')
  await press(page, button('Add user'))
  await type(page, page.getByLabel('Name', { exact: true }), 'Maren M')
  await page.keyboard.press('Enter')
  await page.getByRole('alert').getByText('Use lower-case letters').waitFor()
  await type(page, page.getByLabel('Name', { exact: true }), 'maren')
  await page.keyboard.press('Enter')
  await page.getByText('only once').waitFor()
  await accessible(page, 'a password, shown once')
  await press(page, button('Close'))
  await press(page, button('Remove user maren'))
  await page.getByText('cannot sign in any more').waitFor()
  await press(page, page.getByRole('alertdialog').getByRole('button', { name: 'Remove user' }))
  await page.getByText('maren', { exact: true }).waitFor({ state: 'detached' })

  await press(page, button('Change grant of admin'))
  await page.getByLabel('Only in zones').waitFor()
  await accessible(page, 'the grant of a user')
  await press(page, button('Cancel'))

  await press(page, button('Change password'))
  expected(/422/) // the browser itself writes down a refusal
  await type(page, page.getByLabel('Current password'), password + 'x')
  await type(page, page.getByLabel('New password', { exact: true }), 'seagulls over the quay')
  await type(page, page.getByLabel('New password, again'), 'seagulls over the key')
  await page.keyboard.press('Enter')
  await page.getByText('This is another password.').waitFor()
  await type(page, page.getByLabel('New password, again'), 'seagulls over the quay')
  await page.keyboard.press('Enter')
  await page.getByText('The current password is wrong.').waitFor()
  expected(/^$/)
  await type(page, page.getByLabel('Current password'), password)
  await page.keyboard.press('Enter')
  await page.getByText('The password is changed.').waitFor()
  await accessible(page, 'a changed password')
  await press(page, button('Change password')) // back again: other tests sign in with it
  await type(page, page.getByLabel('Current password'), 'seagulls over the quay')
  await type(page, page.getByLabel('New password', { exact: true }), password)
  await type(page, page.getByLabel('New password, again'), password)
  await page.keyboard.press('Enter')
  await page.getByLabel('Current password').waitFor({ state: 'detached' })
})

test('the domain moves on as a handover, and one can go back', async () => {
  const { page } = watched
  await page.goto(`${address}/domains/${domain}/handover`)
  await page.getByText('Move this domain to another provider').waitFor()
  await accessible(page, 'before a handover')
  await choose(page, page.getByLabel('New provider'), 'curlew-ops')
  await press(page, button('Preview steps'))
  await page.getByText('This is a preview. Nothing was changed.').waitFor()
  await press(page, button('Begin handover'))
  await page.getByText('Asked of you').waitFor({ timeout: 30_000 })

  await page.getByText('They answer the same.').waitFor()
  await accessible(page, 'a handover that waits for a user')
  await press(page, view('Delegation'))
  await page.getByText('A handover moves this domain.').waitFor()
  await press(page, view('Handover'))
  await press(page, button('Allow the change of nameservers'))
  await page.getByText('Settling: caches may hold the old nameservers').waitFor({ timeout: 30_000 })
  await accessible(page, 'a handover that settles')
  await press(page, button('Pause handover'))
  await page.getByText(/^Paused\. /).waitFor()
  await press(page, button('Resume handover'))
  await button('Pause handover').waitFor()
  await press(page, page.getByRole('navigation', { name: 'Main' }).getByRole('link', { name: 'Handovers' }))
  await main().getByRole('link', { name: domain }).waitFor()
  await accessible(page, 'handovers')
  await press(page, main().getByRole('link', { name: domain }))
  await press(page, button('Go back'))
  await press(page, page.getByRole('alertdialog').getByRole('button', { name: 'Go back' }))
  await page.getByText('Old · curlew-ops').waitFor()
  await page.getByText('Settling: caches may hold the old nameservers').waitFor({ timeout: 30_000 })
  await accessible(page, 'a handover that leads back')
})

test('on a phone every page fits, and the light can be turned', async () => {
  const phone = await open(browser, { width: 390, height: 844 })
  const { page } = phone
  await signIn(page)
  for (const path of ['/', '/domains', '/findings', `/domains/${domain}`, `/domains/${domain}/records`, `/domains/${domain}/history`, `/domains/${domain}/changes`, `/domains/${domain}/delegation`, `/domains/${domain}/handover`, '/handovers', '/hosts', '/search', '/add', '/apply', '/users', '/tokens', '/logbook', '/nowhere']) {
    await page.goto(address + path)
    await main().first().waitFor()
    await page.getByRole('heading', { level: 1 }).waitFor()
    await page.waitForLoadState('load')
    await expect.poll(() => page.getByRole('status', { name: 'Loading' }).count()).toBe(0)
    await accessible(page, `${path} on a phone`)
  }
  await press(page, page.getByRole('button', { name: 'Menu' }))
  await page.getByRole('menuitem', { name: 'Accounts' }).waitFor()
  await accessible(page, 'the menu on a phone')
  const item = page.getByRole('menuitem', { name: 'Accounts' })
  await expect
    .poll(async () => {
      await page.keyboard.press('ArrowDown')
      return item.evaluate((e) => e === document.activeElement)
    })
    .toBe(true)
  await page.keyboard.press('Enter')
  await page.getByRole('heading', { name: 'Accounts', level: 1 }).waitFor()
  const light = (name: string) => page.getByRole('radio', { name }).locator('visible=true')
  await tabTo(page, light('Auto'))
  for (const next of ['Day', 'Night']) {
    await page.keyboard.press('ArrowRight')
    await expect.poll(() => light(next).evaluate((e) => e === document.activeElement)).toBe(true)
  }
  await page.keyboard.press('Enter')
  await expect.poll(() => page.evaluate(() => document.documentElement.dataset.theme)).toBe('dark')
  await press(page, page.getByRole('button', { name: 'Sign out' }))
  await page.getByLabel('Password').waitFor()
  expect(phone.faults).toEqual([])
})
