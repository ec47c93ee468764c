// Where work goes: into what runs, or into a draft; and what a set of edits would do.

import { CallError, change, editDraft, words, type Going } from '../api/call'
import type { Between, Change, Edit, Problem, Review, Warned } from '../api/types'

const KEPT = 'merismos-draft'

class Desk {
  /** The draft that changes gather in; null when each goes live by itself. */
  draft = $state<string | null>(sessionStorage.getItem(KEPT))
  /** Grows with each change that was made here, so that lists ask again. */
  made = $state(0)

  choose(draft: string | null) {
    this.draft = draft
    if (draft) sessionStorage.setItem(KEPT, draft)
    else sessionStorage.removeItem(KEPT)
  }
}

export const desk = new Desk()

/** What edits would do, or why they can't be made. */
export interface Outlook {
  changes: Change[]
  review: Review | null
  mistakes: Problem[]
  trouble: string
  warnings: Warned[]
  between: Between | null
}

const NOTHING: Outlook = { changes: [], review: null, mistakes: [], trouble: '', warnings: [], between: null }

function refused(error: unknown): Outlook {
  if (error instanceof CallError) {
    const { problems, warnings, between } = error
    return { ...NOTHING, mistakes: problems, warnings, between, trouble: error.message }
  }
  return { ...NOTHING, trouble: words(error) }
}

/** Asks the service what edits would do, without trying anything on the network unless asked to. */
export async function foresee(edits: Edit[], quick = true, withdrawn = false): Promise<Outlook> {
  if (edits.length === 0) return NOTHING
  try {
    if (desk.draft) {
      const seen = await editDraft(desk.draft, edits, { preview: true })
      const { changes, mistakes, review, between } = seen
      return { changes, mistakes, review, between, trouble: '', warnings: review?.warnings ?? [] }
    }
    const review = await change(edits, { preview: true, quick, withdrawn })
    return { ...NOTHING, changes: review.changes, review, warnings: review.warnings }
  } catch (error) {
    return refused(error)
  }
}

/** Makes edits: live, or in the chosen draft. Gives null when they were made, else what is in the way. */
export async function make(edits: Edit[], going: Going): Promise<Outlook | null> {
  try {
    if (desk.draft) await editDraft(desk.draft, edits)
    else await change(edits, going)
    desk.made += 1
    return null
  } catch (error) {
    return refused(error)
  }
}

/** Whether changes add servers, which can join withdrawn. */
export const addsServers = (changes: Change[]) =>
  changes.some(({ path, old, renamed }) => !renamed && old === null && /^pools\.[^.]+\.servers\.[^.]+$/.test(path))

/** The warnings that have to be accepted. */
export const open = (warnings: Warned[]) => warnings.filter((it) => it.level === 'warning' && !it.known && !it.accepted)
