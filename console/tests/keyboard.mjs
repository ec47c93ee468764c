// Whole jobs by keyboard alone: node tests/keyboard.mjs URL TOKEN LISTEN SERVERS, with servers as ADDRESS:PORT,ADDRESS:PORT
// A job that can't be done ends it with 1.

import { logIn, open, tabTo } from './browser.mjs'

const [url, token, listen, servers] = process.argv.slice(2)
const browser = await open()
const page = await logIn(browser, url, token)
/** Waits until these words have been said so often since the page was loaded. */
const announced = (words, times = 1) =>
  page
    .locator('[data-testid=announced] p')
    .filter({ hasText: words })
    .nth(times - 1)
    .waitFor({ state: 'attached' })
const focus = () => page.evaluate(() => document.activeElement?.tagName)
const { keyboard } = page

// The skip link is the first thing that Tab comes to, and leads past the navigation.
await page.goto(`${url}/new-service`)
await page.locator('nav').waitFor()
await tabTo(page, 'Skip to the content', 1)
await keyboard.press('Enter')
if ((await focus()) !== 'MAIN') throw new Error('the skip link leads to the content')

// A service: a frontend, its pool, servers and check.
await tabTo(page, 'Name')
await keyboard.type('catalogue')
await tabTo(page, 'Listen')
await keyboard.type(listen)
await tabTo(page, /^Servers, a line each/)
await keyboard.type(servers.split(',').join('\n'))
await page.getByRole('button', { name: 'Apply', exact: true }).and(page.locator(':enabled')).waitFor()
await tabTo(page, 'Apply')
await keyboard.press('Enter')
await announced('The change is applied.')
await page.waitForURL(/\/pools\/catalogue/)
if ((await focus()) === 'BODY') throw new Error('after going to the pool, the focus is on its page')

// Arrow keys go from tab to tab; Enter in a field applies the settings.
await tabTo(page, /^Servers \(/)
await keyboard.press('End')
await page.getByRole('tab', { name: 'Settings', selected: true }).waitFor()
await tabTo(page, /^Note/)
await keyboard.type('the ferries')
await page.getByText('note of pool catalogue').waitFor()
await keyboard.press('Enter')
await announced('The change is applied.', 2)

// Maintenance: a server is drained, with a reason.
await page.goto(`${url}/pools/catalogue`)
await tabTo(page, /^Duty of catalogue\//)
await keyboard.press('Enter')
await page.locator('dialog').waitFor()
await tabTo(page, 'Reason', 30)
await keyboard.type('new disk')
await tabTo(page, 'Drain', 30)
await keyboard.press('Enter')
await page.locator('dialog').getByText('it is safe to work').waitFor()
await keyboard.press('Escape')
await page.locator('dialog').waitFor({ state: 'detached' })
await page
  .getByText(/drain(ing|ed)/)
  .first()
  .waitFor()
if ((await focus()) === 'BODY') throw new Error('after the dialog, the focus is where it was')

// Proof: a trial of what is left, from the overview.
await page.goto(url)
await tabTo(page, /^Try catalogue/)
await keyboard.press('Enter')
await tabTo(page, 'Send real requests', 40)
await keyboard.press('Enter')
await page.locator('[data-testid=verdict]').waitFor()
await keyboard.press('Escape')
await page.locator('dialog').waitFor({ state: 'detached' })
if ((await focus()) === 'BODY') throw new Error('after the trial, the focus is where it was')

// Diagnosis: the steps to a server, from its last probes.
await page.goto(`${url}/pools/catalogue`)
await tabTo(page, /^Probes of catalogue\//)
await keyboard.press('Enter')
await tabTo(page, /^Find where it fails/, 40)
await keyboard.press('Enter')
await page.locator('dialog').getByText('what came back').waitFor()
await page.locator('dialog').getByText('connect', { exact: false }).first().waitFor()
await keyboard.press('Escape')
await page.locator('dialog').waitFor({ state: 'detached' })

// A draft: made, filled, deployed; and the way back.
await page.goto(`${url}/changes`)
await tabTo(page, /^New draft/)
await keyboard.type('autumn')
await tabTo(page, 'Create draft')
await keyboard.press('Enter')
await page.waitForURL(/\/changes\/drafts\/autumn/)
await page.goto(`${url}/pools/catalogue?tab=settings`)
await tabTo(page, /^Note/)
await keyboard.type(' in autumn')
await page.getByText('note of pool catalogue').waitFor()
await keyboard.press('Enter')
await announced('The change is in draft autumn.')
await page.goto(`${url}/changes/drafts/autumn`)
await tabTo(page, 'Deploy it')
await keyboard.press('Enter')
await page.waitForURL(/\/changes\/revisions\/\d+/)
const deployed = Number(page.url().split('/').at(-1))
await page.goto(`${url}/changes/revisions/${deployed - 1}`)
await tabTo(page, /^Go back to it/)
await keyboard.press('Enter')
await page.getByRole('button', { name: 'Go back to it', exact: true }).and(page.locator(':enabled')).waitFor()
await tabTo(page, 'Go back to it')
await keyboard.press('Enter')
await page.waitForURL(new RegExp(`/changes/revisions/${deployed + 1}$`))

await browser.close()
console.log('every job was done by keyboard')
