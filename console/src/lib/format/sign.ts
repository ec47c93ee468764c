// How each state is drawn: a sign, a word and a colour, never the colour alone. See DESIGN.md.

import type { PoolStatus, ServerStatus, Status } from '../api/types'
import { drainWords } from './drain'
import { ago } from './format'

export interface Sign {
  glyph: string
  word: string
  tone: 'text-success' | 'text-warning' | 'text-error' | 'text-secondary'
}

export function healthSign(server: ServerStatus): Sign {
  if (!server.health.checked) return { glyph: '○', word: 'not checked', tone: 'text-secondary' }
  switch (server.health.state) {
    case 'up':
      return { glyph: '●', word: 'up', tone: 'text-success' }
    case 'suspect':
      return { glyph: '◐', word: 'suspect', tone: 'text-warning' }
    case 'recovering':
      return { glyph: '◑', word: 'recovering', tone: 'text-warning' }
    case 'down':
      return { glyph: '✕', word: 'down', tone: 'text-error' }
    case 'unproven':
      return { glyph: '○', word: 'unproven', tone: 'text-secondary' }
  }
}

/** Whether traffic to a pool's servers is encrypted and verified. */
export const trustWords: Record<PoolStatus['server_tls'], string> = {
  plain: 'servers in plain text',
  verified: 'servers over TLS, verified',
  pinned: 'servers over TLS, one certificate alone passes',
  unverified: '! servers over TLS, not verified: it may be anybody who answers',
}

export function dutySign(server: ServerStatus): Sign {
  switch (server.duty?.duty) {
    case 'draining':
      return server.draining?.safe ? { glyph: '▽', word: 'drained', tone: 'text-warning' } : { glyph: '▼', word: 'draining', tone: 'text-warning' }
    case 'withdrawn':
      return { glyph: '■', word: 'withdrawn', tone: 'text-warning' }
    case 'in_service':
    case undefined:
      return { glyph: '', word: 'in service', tone: 'text-secondary' }
  }
}

const CARRIED_IS_NEWS_MS = 3_600_000

/** For how long a server's state was watched to last; the time before that is unknown. */
export function lasting({ health }: ServerStatus, { node, at }: Status): string {
  if (health.watched_until === null) return ago(health.since, at)
  const watched = ago(node.started, at)
  // How it was before is news for a while only.
  if (Date.parse(at) - Date.parse(node.started) > CARRIED_IS_NEWS_MS) return watched
  return `${watched}, and ${ago(health.watched_until, node.started)} before this start${health.last_probe ? '' : '; not confirmed'}`
}

/** What else there is to say of a server's health, a few words each. */
export function standing({ health, eligible, draining, duty }: ServerStatus, at: string): string[] {
  const says: string[] = []
  if (draining) {
    const quiet = draining.quiet_since ? `, no work begun for ${ago(draining.quiet_since, at)}` : ''
    const tied = draining.clients_tied && !(draining.ties_end && draining.ties_end <= at)
    says.push(`${drainWords(draining)}${quiet}${tied ? '; clients that are tied to it may still come' : ''}`)
    if (duty?.deadline && duty.deadline > at) says.push(`what is open at ${new Date(duty.deadline).toLocaleTimeString('en-GB')} is closed`)
  }
  if (duty?.until && duty.duty !== 'in_service')
    says.push(duty.until < at ? `! expected back ${ago(duty.until, at)} ago` : `expected back in ${ago(at, duty.until)}`)
  if (health.feedback === 'drain') says.push(eligible ? 'asks to be drained; no other server could work' : 'asks to be drained')
  else if (health.feedback) says.push(`asks for ${health.feedback.share} % of its share`)
  if (health.downs_today > 0) says.push(health.downs_today === 1 ? 'went down once today' : `went down ${health.downs_today} times today`)
  if (health.flapping) says.push('flapping')
  if (health.held_until) says.push(`held down until ${new Date(health.held_until).toLocaleTimeString('en-GB')}`)
  return says
}
