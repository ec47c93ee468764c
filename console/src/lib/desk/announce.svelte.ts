// What is said to those who do not see the page: a change that was made, a trouble that is new, a lost connection; each once.

/** So many stay on the page, so that one that follows at once takes no other away before it is read. */
const KEPT = 5
let said = $state<{ id: number; text: string }[]>([])
let last = 0

export const announcement = {
  /** The last ones, the oldest first. */
  get said() {
    return said
  },
  /** Says something, also when it was said before. */
  say(text: string) {
    last += 1
    said = [...said, { id: last, text }].slice(-KEPT)
  },
}

/** A trouble without its numbers: those change each second, and what it is about does not. */
const gist = (trouble: string) => trouble.replace(/\d[\d.,:]*/g, '#')

/** The troubles that were not there before. */
export function fresh(before: string[], now: string[]): string[] {
  const known = before.map(gist)
  return now.filter((trouble) => !known.includes(gist(trouble)))
}
