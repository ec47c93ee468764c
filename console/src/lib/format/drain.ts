// How far a drain is, in words.

import type { OpenWork } from '../api/types'

/** How much is open at a server, of any kind. */
export const openCount = (open: OpenWork) => open.requests + open.connections + open.tunnels

/** What is open: `2 requests, 1 tunnel open`. */
export function openWords({ requests, connections, tunnels }: OpenWork): string {
  const parts: [number, string][] = [
    [requests, 'request'],
    [connections, 'connection'],
    [tunnels, 'tunnel'],
  ]
  const counted = parts.filter(([count]) => count > 0).map(([count, what]) => `${count} ${what}${count === 1 ? '' : 's'}`)
  return counted.length === 0 ? 'nothing is open' : `${counted.join(', ')} open`
}
