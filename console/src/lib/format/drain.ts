// How far a drain is, in words.

import type { DrainState, OpenWork } from '../api/types'

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

/** What is open at a server, here and from other nodes: `2 requests open; 3 more open from another node`. */
export function drainWords({ open, open_elsewhere, nodes_not_done }: DrainState['draining']): string {
  const here = openWords(open)
  if (!nodes_not_done) return here
  const nodes = nodes_not_done === 1 ? 'another node' : `${nodes_not_done} other nodes`
  return open_elsewhere ? `${here}; ${open_elsewhere} more open from ${nodes}` : `${here}; ${nodes} may still send to it`
}
