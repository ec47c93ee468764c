// Debian's Chromium, driven by playwright-core.

import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { chromium } from 'playwright-core'

const axe = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8')
const RULES = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']
export const PATIENCE_MS = 30_000

export const open = () =>
  chromium.launch({
    executablePath: '/usr/bin/chromium',
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  })

/** A page of a session of its own, logged in by keyboard. */
export async function logIn(browser, url, token, options = {}) {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, ...options })
  const page = await context.newPage()
  page.setDefaultTimeout(PATIENCE_MS)
  await page.goto(url)
  await page.locator('#token').focus()
  await page.keyboard.type(token)
  await page.keyboard.press('Enter')
  await page.locator('nav').waitFor()
  return page
}

/** What axe finds on the page as it is, one line a place. */
export async function findings(page, name) {
  await page.evaluate(axe)
  const { violations } = await page.evaluate((rules) => globalThis.axe.run(document, { runOnly: rules }), RULES)
  return violations.flatMap(({ id, nodes }) =>
    nodes.map((node) => `${name}: ${id}: ${node.target.join(' ')} ${node.failureSummary?.replace(/\s+/g, ' ') ?? ''}`),
  )
}

/** Presses Tab until what has the focus has this accessible name; fails when it never does. */
export async function tabTo(page, name, most = 150) {
  for (let step = 0; step < most; step++) {
    await page.keyboard.press('Tab')
    const found = await page.evaluate(() => {
      const element = document.activeElement
      const labelled = element?.labels?.[0]?.textContent ?? ''
      return (element?.getAttribute('aria-label') ?? (labelled || element?.textContent) ?? '').trim().replace(/\s+/g, ' ')
    })
    if (typeof name === 'string' ? found === name : name.test(found)) return
  }
  throw new Error(`Tab never came to ${name}`)
}
