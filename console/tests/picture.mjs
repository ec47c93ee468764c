// Takes a picture of the console, 1280x800 unless told otherwise: node console/tests/picture.mjs FILE [options].
//
// --path PATH         the page                     --dark          the dark colours
// --size WIDTHxHEIGHT of the window                --logged-out    the log-in
// --try FRONTEND      a trial that has ended       --draft NAME    work in this draft
// --script SCRIPT     what to do before the picture, once or more often; `fill(label, text)` types into the field with that label,
//                     `press(text)` presses a button, a tab or a link that begins with it

import { parseArgs } from 'node:util'
import { open } from './browser.mjs'

const { values, positionals } = parseArgs({
  allowPositionals: true,
  options: {
    path: { type: 'string', default: '/' },
    size: { type: 'string', default: '1280x800' },
    try: { type: 'string' },
    draft: { type: 'string' },
    script: { type: 'string', multiple: true, default: [] },
    dark: { type: 'boolean', default: false },
    'logged-out': { type: 'boolean', default: false },
  },
})
const [file] = positionals
const [width, height] = values.size.split('x').map(Number)
const { MERISMOS_URL: url, MERISMOS_TOKEN: token } = process.env
/** Charts and shares move to their new places; a picture is of what rests. */
const REST_MS = 1200

const HELPERS = `
  const fill = (label, text) => {
    const named = [...document.querySelectorAll('label')].find((known) => known.textContent.trim().startsWith(label))
    const field = document.querySelector('[aria-label="' + label + '"]') ?? named?.control
    const kind = field.tagName === 'TEXTAREA' ? HTMLTextAreaElement : field.tagName === 'SELECT' ? HTMLSelectElement : HTMLInputElement
    Object.getOwnPropertyDescriptor(kind.prototype, 'value').set.call(field, text)
    field.dispatchEvent(new Event('input', { bubbles: true }))
    field.dispatchEvent(new Event('change', { bubbles: true }))
  }
  const press = (text) => [...document.querySelectorAll('button, [role=tab], a')].find((known) => known.textContent.trim().startsWith(text)).click()
`

const browser = await open()
try {
  const context = await browser.newContext({
    viewport: { width, height },
    colorScheme: values.dark ? 'dark' : 'light',
  })
  const page = await context.newPage()
  await page.goto(url)
  if (values['logged-out']) {
    await page.locator('#token').waitFor()
  } else {
    const asked = await context.request.post(`${url}/api/v1/session`, { data: { token } })
    if (!asked.ok()) throw new Error(`the log-in was refused: ${asked.status()}`)
    if (values.draft) await page.evaluate((draft) => sessionStorage.setItem('merismos-draft', draft), values.draft)
    await page.goto(url + values.path)
    await page.locator('[data-testid=flow], main h2, #pools-title').first().waitFor()
  }
  if (values.try) {
    await page
      .locator('button', { hasText: `Try ${values.try}` })
      .first()
      .click()
    await page.locator('button', { hasText: 'Send real requests' }).click()
    await page.locator('[data-testid=verdict]').waitFor()
  }
  await page.waitForTimeout(REST_MS)
  for (const script of values.script) {
    await page.evaluate(`(() => {${HELPERS}${script}})()`)
    await page.waitForTimeout(REST_MS)
  }
  await page.screenshot({ path: file })
  console.log(file, 'page height', await page.evaluate(() => document.documentElement.scrollHeight))
} finally {
  await browser.close()
}
