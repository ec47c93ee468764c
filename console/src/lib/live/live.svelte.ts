// One store for what is so right now, kept by the live stream.

import { untrack } from 'svelte'
import { CallError, events, isLoggedIn, session } from '../api/call'
import type { Fact, Status, Trial } from '../api/types'
import { Feed } from './feed'
import type { FromWorker } from './worker'

const REMEMBERED = 60
const RETRY_MS = 2000
/** How long the service may say nothing: it gives a status each second. */
const SILENT_MS = 5000

class Live {
  /** Whether the token is good; unknown until the service has been asked. */
  access = $state<'unknown' | 'no' | 'yes'>('unknown')
  /** What is so; stays as it was while the connection is lost. */
  status = $state.raw<Status | null>(null)
  /** What happened, the newest first. */
  facts = $state.raw<Fact[]>([])
  /** The trials that went on since the page was opened, by number. */
  trials = $state.raw<Record<number, Trial>>({})
  /** Grows with each revision and each change of a draft, so that pages ask again. */
  changes = $state(0)
  /** Grows with each order, and each step of a window or a roll. */
  orders = $state(0)
  /** Since when the stream is broken. */
  lostSince = $state<Date | null>(null)

  /** The pool whose servers are shown one by one, also when there are very many. */
  #pool: string | null = null
  #feed = new Feed((message) => this.#take(message))
  #retry: ReturnType<typeof setTimeout> | undefined
  /** When something came last, while this page watches and is visible. */
  #heard = Date.now()

  constructor() {
    session.ended = () => {
      this.access = 'no'
      this.stop()
    }
    setInterval(() => {
      // A hidden page does not watch.
      if (document.hidden || this.access !== 'yes') this.#heard = Date.now()
      if (Date.now() - this.#heard > SILENT_MS) this.lostSince ??= new Date(this.#heard)
    }, 1000)
  }

  /** Asks who we are and begins to watch. */
  async start() {
    this.stop()
    try {
      await isLoggedIn()
    } catch (error) {
      if (error instanceof CallError && error.status === 401) {
        this.access = 'no'
        return
      }
      this.#lost()
      return
    }
    // Pages that were there when the session ended ask again.
    if (this.access === 'no' && this.status) this.changes += 1
    this.access = 'yes'
    this.#watch()
  }

  stop() {
    clearTimeout(this.#retry)
    this.#feed.stop()
  }

  #lost() {
    this.lostSince ??= new Date()
    clearTimeout(this.#retry)
    this.#retry = setTimeout(() => void this.start(), RETRY_MS)
  }

  /** Asks for the servers of one pool; needed only where there are so many that they are left out. */
  look(pool: string | null) {
    if (this.#pool === pool) return
    this.#pool = pool
    // An effect that calls this depends on the pool alone: with the status, each one would open the stream anew.
    untrack(() => {
      if (this.status?.shortened && this.access === 'yes') {
        this.stop()
        this.#watch()
      }
    })
  }

  #watch() {
    this.#feed.watch(this.#pool)
  }

  #take(message: FromWorker) {
    switch (message.kind) {
      case 'open':
        if (this.lostSince) this.changes += 1
        this.lostSince = null
        // What happened while no page watched.
        events(REMEMBERED).then(
          (page) => this.#remember(page.events),
          () => {},
        )
        break
      case 'status':
        this.#heard = Date.now()
        this.lostSince = null
        this.status = JSON.parse(message.data)
        this.#feed.rest()
        break
      case 'event': {
        const fact: Fact = JSON.parse(message.data)
        if (fact.kind === 'revision' || fact.kind === 'draft' || fact.kind === 'lookup') this.changes += 1
        if (fact.kind === 'duty' || fact.kind === 'window' || fact.kind === 'roll') this.orders += 1
        this.#remember([fact])
        break
      }
      case 'trial': {
        const trial: Trial = JSON.parse(message.data)
        this.trials = { ...this.trials, [trial.id]: trial }
        break
      }
      case 'error':
        this.#feed.stop()
        this.#lost()
    }
  }

  #remember(more: Fact[]) {
    const known = new Map([...this.facts, ...more].map((fact) => [fact.id, fact]))
    this.facts = [...known.values()].sort((a, b) => b.id - a.id).slice(0, REMEMBERED)
  }
}

export const live = new Live()
