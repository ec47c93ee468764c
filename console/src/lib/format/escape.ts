// Texts with the escapes of a document (TOML 1.1, basic strings).

const SHORT: Record<string, string> = { n: '\n', r: '\r', t: '\t', b: '\b', f: '\f', e: '\u001b', '\\': '\\', '"': '"' }
const LETTERS: Record<string, string> = { '\n': '\\n', '\r': '\\r', '\t': '\\t', '\\': '\\\\' }

/** The text as it can be typed. */
export const escaped = (text: string) =>
  text.replace(
    // eslint-disable-next-line no-control-regex
    /[\u0000-\u001f\u007f-\u009f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\\]/g,
    (letter) => LETTERS[letter] ?? `\\u${letter.charCodeAt(0).toString(16).padStart(4, '0')}`,
  )

/** What was typed; null when it has an escape that there is not. */
export function unescaped(typed: string): string | null {
  let wrong = false
  const text = typed.replace(/\\(x[0-7][0-9a-fA-F]|u[0-9a-fA-F]{4}|U[0-9a-fA-F]{8}|[^xuU]|.|$)/gs, (_, escape: string) => {
    const code = escape.length > 1 ? parseInt(escape.slice(1), 16) : NaN
    if (code <= 0x10ffff && !(code >= 0xd800 && code <= 0xdfff)) return String.fromCodePoint(code)
    const short = escape.length === 1 ? SHORT[escape] : undefined
    if (short === undefined) wrong = true
    return short ?? ''
  })
  return wrong ? null : text
}
