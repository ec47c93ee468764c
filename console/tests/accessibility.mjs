// No finding of axe on any page, in any state of it, in either colour scheme: node tests/accessibility.mjs URL TOKEN POOL FRONTEND CHECK SERVER
// Prints the findings, one a line, and ends with 1 when there are any.

import { findings, logIn, open } from './browser.mjs'

const [url, token, pool, frontend, check, server] = process.argv.slice(2)

const PAGES = [
  '/',
  '/frontends',
  `/frontends/${frontend}`,
  '/pools',
  `/pools/${pool}`,
  '/checks',
  `/checks/${check}`,
  '/hosts',
  '/ranges',
  '/networks',
  '/notifications',
  '/maintenance',
  '/changes',
  '/events',
  '/access',
  '/nodes',
  '/addresses',
  '/announce',
  '/new-service',
  '/no-such-page',
]

/** States of pages: where they are, and what is pressed there. */
const press = (name) => (page) => page.getByRole('button', { name, exact: true }).first().click()
const tab = (name) => (page) => page.getByRole('tab', { name }).click()
const STATES = [
  [`/pools/${pool}`, 'totals', tab('Totals')],
  [`/pools/${pool}`, 'add servers', tab('Add servers')],
  [`/pools/${pool}`, 'DNS names', tab(/^DNS names/)],
  [`/pools/${pool}`, 'settings', tab('Settings')],
  [`/pools/${pool}`, 'duty', press(`Duty of ${pool}/${server}`)],
  [`/pools/${pool}`, 'probes', press(`Probes of ${pool}/${server}`)],
  [`/frontends/${frontend}`, 'all keys', press('▸ All other keys')],
  [`/checks/${check}`, 'all keys', press('▸ All other keys')],
  ['/pools', 'new pool', press('New pool')],
  ['/checks', 'new check', press('New check')],
  ['/frontends', 'new frontend', press('New frontend')],
  ['/notifications', 'new notification', press('New notification')],
  ['/maintenance', 'new window', press('New window')],
  ['/maintenance', 'new roll', press('New roll')],
  ['/', 'trial', press(`Try ${frontend} …`)],
  ['/', 'signs', press('Signs')],
]

const browser = await open()
const all = []
let seen = 0
for (const colorScheme of ['light', 'dark']) {
  const page = await logIn(browser, url, token, { colorScheme })
  const look = async (path, name, act) => {
    await page.goto(url + path)
    await page.locator('nav').waitFor()
    if (act) await act(page)
    await page.waitForFunction(() => (document.querySelector('main')?.innerText.trim().length ?? 0) > 0)
    await page.evaluate(() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done))))
    all.push(...(await findings(page, `${colorScheme} ${path} ${name}`)))
    seen += 1
  }
  for (const path of PAGES) await look(path, '')
  for (const [path, name, act] of STATES) await look(path, name, act)
  await page.setViewportSize({ width: 390, height: 844 })
  await look('/', 'narrow')
  await page.context().close()
}
const out = await (await browser.newContext()).newPage()
await out.goto(url)
await out.locator('#token').waitFor()
all.push(...(await findings(out, 'log-in')))
await browser.close()
console.log([...all, `${seen + 1} states, ${all.length} findings`].join('\n'))
process.exit(all.length > 0 ? 1 : 0)
