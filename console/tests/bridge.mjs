// A browser for tests that are written elsewhere: one command in JSON a line on standard input, one answer a line on standard output.
// A command is { "do": NAME, ... }; the answer { "value": ... }, or { "error": TEXT }.

import { createInterface } from 'node:readline'
import { open, PATIENCE_MS } from './browser.mjs'

const browser = await open()
const context = await browser.newContext({ viewport: { width: 1280, height: 800 } })
/** What pages complained of, as the browser's log has it. */
const complaints = []
context.on('console', (message) => {
  if (message.type() === 'error') complaints.push({ message: `${message.location().url}: ${message.text()}` })
})
context.on('weberror', (error) => complaints.push({ message: String(error.error()) }))
let page

async function newPage() {
  page = await context.newPage()
  page.setDefaultTimeout(PATIENCE_MS)
  // A page that asks before it is left is left, as a person would answer who wants to.
  page.on('dialog', (dialog) => dialog.accept())
}

/** The first element that a selector finds: CSS, or XPath after `xpath=`. */
const first = (selector) => page.locator(selector).first()

/** What is read of the first such element, in one step and without a limit of time: a page on a slow machine is not read as an empty one. */
async function read(selector, reader, argument) {
  for (;;) {
    try {
      return await page.locator(selector).evaluateAll(reader, argument)
    } catch (error) {
      // The page was left while it was read.
      if (!/navigation|context was destroyed/i.test(String(error))) throw error
    }
  }
}

const commands = {
  newPage,
  goto: ({ url }) => page.goto(url).then(() => null),
  reload: () => page.reload().then(() => null),
  url: () => page.url(),
  title: () => page.title(),
  size: ({ width, height }) => page.setViewportSize({ width, height }),
  count: ({ selector }) => page.locator(selector).count(),
  waitFor: ({ selector }) => first(selector).waitFor({ state: 'attached' }),
  /** The text as a person sees it; empty when there is no such element. */
  text: async ({ selector }) => {
    // Drawings have no innerText; of them the texts count, and not the titles that show under a pointer.
    const shown = await read(
      selector,
      ([element]) => element && (element.innerText ?? [...element.querySelectorAll('text')].map((text) => text.textContent).join('\n')),
    )
    return (shown ?? '').replace(/[^\S\n]+/g, ' ')
  },
  attribute: ({ selector, name }) => read(selector, ([element], name) => element?.getAttribute(name), name),
  attributes: ({ selector, name }) => page.locator(selector).evaluateAll((all, name) => all.map((element) => element.getAttribute(name)), name),
  value: async ({ selector }) => (await read(selector, ([element]) => element?.value)) ?? '',
  click: ({ selector }) => first(selector).click(),
  /** Types behind what stands in a field. */
  type: async ({ selector, text }) => {
    await first(selector).focus()
    await page.keyboard.press('End')
    await page.keyboard.insertText(text)
  },
  /** Types in place of what stands in a field, and presses a key after that. Of a list, the entry with this label is chosen. */
  replace: async ({ selector, text, press }) => {
    const field = first(selector)
    await field.waitFor()
    if ((await field.evaluate((element) => element.tagName)) === 'SELECT') return field.selectOption({ label: text })
    await field.fill(text)
    if (press) await page.keyboard.press(press)
  },
  choose: ({ selector, value }) => first(selector).selectOption(value),
  /** Runs the body of a function in the page, with `arguments`. */
  run: ({ script, arguments: values }) => page.evaluate(`(function () {${script}}).apply(null, ${JSON.stringify(values)})`),
  cookies: async () => (await context.cookies()).map(({ name }) => name),
  clearCookies: () => context.clearCookies(),
  complaints: () => complaints,
}

await newPage()
for await (const line of createInterface({ input: process.stdin })) {
  const command = JSON.parse(line)
  let answer
  try {
    answer = { value: (await commands[command.do](command)) ?? null }
  } catch (error) {
    answer = { error: String(error) }
  }
  process.stdout.write(`${JSON.stringify(answer)}\n`)
}
await browser.close()
