// What goes with a service: its frontend, and what nothing else uses.

import { object as ask } from '../api/call'
import type { Edit, ObjectView } from '../api/types'

export interface Removal {
  edits: Edit[]
  /** What stays, and who uses it. */
  left: { path: string; users: string[] }[]
}

const texts = (value: unknown): string[] => (Array.isArray(value) ? value.map(String) : typeof value === 'string' && value !== '' ? [value] : [])

/** Asks what can go together with a frontend, in the order in which it can. */
export async function removalOf(frontend: ObjectView, draft: string | null): Promise<Removal> {
  const going = [frontend.path]
  const left: Removal['left'] = []
  // An object goes when all that use it do.
  const go = async (path: string): Promise<ObjectView | null> => {
    const view = await ask(path, draft)
    const users = view.used_by.filter((user) => !going.includes(user))
    if (users.length === 0) going.push(path)
    else left.push({ path, users })
    return users.length === 0 ? view : null
  }
  const taken = /^([a-z0-9-]+)\/([a-z0-9-]+):\d+$/.exec(String(frontend.keys.listen ?? ''))
  if (taken) await go(`ranges.${taken[1]}.reserved.${taken[2]}`)
  const checks = new Set<string>()
  for (const pool of new Set(['pool', 'next_pools', 'last_resort'].flatMap((key) => texts(frontend.keys[key])))) {
    const gone = await go(`pools.${pool}`)
    if (gone) for (const check of [...texts(gone.keys.check), ...texts(gone.keys.more_checks)]) checks.add(check)
  }
  for (const check of checks) await go(`checks.${check}`)
  return { edits: going.map((path) => ({ do: 'remove', object: path })), left }
}
