// Takes pictures of console pages: pictures.mjs ADDRESS PASSWORD FOLDER NAME=PATH ...
// A name that ends in "-night" is taken dark and at the size of a phone; the sign-in is the one page that nobody is
// signed in for.
import { chromium } from 'playwright-core'

const [address, password, folder, ...pages] = process.argv.slice(2)
const browser = await chromium.launch({
  executablePath: process.env.CONSOLE_BROWSER ?? '/usr/bin/chromium',
  args: ['--no-sandbox', '--disable-gpu', '--disable-background-networking', '--disable-component-update', '--disable-sync', '--no-first-run'],
})
for (const one of pages) {
  const [, name, path] = one.match(/^([^=]+)=(.*)$/)
  const night = name.endsWith('-night')
  const context = await browser.newContext({
    viewport: night ? { width: 390, height: 844 } : { width: 1280, height: 800 },
    colorScheme: night ? 'dark' : 'light',
    reducedMotion: 'reduce',
  })
  const page = await context.newPage()
  if (path !== '/sign-in') await context.request.post(address + '/api/v1/sessions', { data: { name: 'admin', password, browser: true } })
  await page.goto(address + path)
  await page.getByRole('heading', { level: 1 }).waitFor()
  await page.locator('main:not(:has([role=status][aria-label=Loading]))').waitFor()
  await page.evaluate(() => document.fonts.ready)
  await page.waitForTimeout(1200)
  await page.screenshot({ path: `${folder}/${name}.png` })
  await context.close()
}
await browser.close()
