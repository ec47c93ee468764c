// What is said to those who do not see the page: a change that was made, a trouble that is new, a lost connection; each once.

let text = $state('')

export const announcement = {
  get text() {
    return text
  },
  /** Says something, also when it was said before. */
  say(what: string) {
    text = ''
    setTimeout(() => (text = what))
  },
}

/** A trouble without its numbers: those change each second, and what it is about does not. */
const gist = (trouble: string) => trouble.replace(/\d[\d.,:]*/g, '#')

/** The troubles that were not there before. */
export function fresh(before: string[], now: string[]): string[] {
  const known = before.map(gist)
  return now.filter((trouble) => !known.includes(gist(trouble)))
}
