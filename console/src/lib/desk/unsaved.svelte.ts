// What was typed and is not made yet. It stays, in this tab, when its page is left or loaded anew, and the browser asks before it is closed.

import { untrack } from 'svelte'

const KEPT = 'merismos-unsaved'

export interface Work {
  /** What it is, for people. */
  title: string
  /** Where it goes on. */
  href: string
  /** When it was typed. */
  at: string
  data: unknown
}

function read(): Record<string, Work> {
  try {
    return JSON.parse(sessionStorage.getItem(KEPT) ?? '{}')
  } catch {
    return {}
  }
}

class Unsaved {
  works = $state.raw<Record<string, Work>>(read())

  /** What was typed before for this form; null when there is nothing. */
  kept<T>(key: string): T | null {
    return untrack(() => (this.works[key]?.data as T | undefined) ?? null)
  }

  /** Keeps what is typed; null when there is nothing to keep any more. */
  keep(key: string, title: string, data: unknown) {
    untrack(() => {
      if (data === null) {
        if (!(key in this.works)) return
        const { [key]: _, ...others } = this.works
        this.#set(others)
        return
      }
      if (JSON.stringify(this.works[key]?.data) === JSON.stringify(data)) return
      const href = location.pathname + location.search
      this.#set({ ...this.works, [key]: { title, href, at: new Date().toISOString(), data } })
    })
  }

  forgetAll() {
    this.#set({})
  }

  #set(works: Record<string, Work>) {
    this.works = works
    try {
      sessionStorage.setItem(KEPT, JSON.stringify(works))
    } catch {
      // A browser that keeps nothing still asks before the page is closed.
    }
  }
}

export const unsaved = new Unsaved()

window.addEventListener('beforeunload', (event) => {
  if (Object.keys(unsaved.works).length > 0) event.preventDefault()
})
