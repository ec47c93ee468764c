// The geometry of the flow drawing: plain numbers in, paths out.

import { linkHorizontal } from 'd3-shape'
import type { FrontendStatus, PoolStatus, ServerStatus, Status } from '../api/types'

export const WIDTH = 860
const LEFT = 190
const POOL = 400
const POOL_HALF = 95
const RIGHT = 640
const ROW = 24
const GAP = 14
/** The thickness of a pool's band, from the quietest to the busiest. */
const THINNEST = 22
const THICKEST = 64

export interface Ribbon {
  server: ServerStatus
  expected: string
  observed: string
  labelX: number
  labelY: number
}

export interface Lane {
  key: string
  frontend: FrontendStatus | null
  pool: PoolStatus
  middle: number
  poolX: number
  entry: string
  ribbons: Ribbon[]
}

const centre = linkHorizontal<{ from: [number, number]; to: [number, number] }, [number, number]>()
  .source((link) => link.from)
  .target((link) => link.to)

/** A band of constant thickness along a curve: out on its upper edge, back on its lower one. */
function band(from: [number, number], to: [number, number], thickness: number): string {
  if (thickness <= 0) return ''
  const half = thickness / 2
  const upper = centre({ from: [from[0], from[1] - half], to: [to[0], to[1] - half] })
  const lower = centre({ from: [to[0], to[1] + half], to: [from[0], from[1] + half] })
  return `${upper}L${to[0]},${to[1] + half}${lower?.slice(lower.indexOf('C'))}Z`
}

export function layOut(status: Status): { lanes: Lane[]; height: number } {
  const pools = new Map(status.pools.map((pool) => [pool.name, pool]))
  const used = new Set(status.frontends.map((frontend) => frontend.pool))
  const pairs: [FrontendStatus | null, PoolStatus][] = []
  for (const frontend of status.frontends) {
    const pool = pools.get(frontend.pool)
    if (pool) pairs.push([frontend, pool])
  }
  for (const pool of status.pools) if (!used.has(pool.name)) pairs.push([null, pool])

  const rateOf = (pool: PoolStatus) => pool.servers.reduce((sum, it) => sum + it.observed.ten_seconds.per_second, 0)
  const busiest = Math.max(1, ...status.pools.map(rateOf))
  let top = 4
  const lanes = pairs.map(([frontend, pool]) => {
    const total = rateOf(pool)
    const thickness = THINNEST + (THICKEST - THINNEST) * (total / busiest)
    const height = Math.max(pool.servers.length * ROW, thickness, 40)
    const middle = top + height / 2
    const firstRow = middle - (pool.servers.length * ROW) / 2
    let startExpected = middle - thickness / 2
    const ribbons = pool.servers.map((server, index) => {
      const y = firstRow + (index + 0.5) * ROW
      const wide = server.expected * thickness
      // A ribbon may not run into its neighbours' labels, however thick its share is at the pool.
      const from: [number, number] = [POOL + POOL_HALF, startExpected + wide / 2]
      startExpected += wide
      const share = server.observed.ten_seconds.share ?? 0
      return {
        server,
        expected: band(from, [RIGHT, y], Math.min(wide, ROW - 3)),
        observed: band(from, [RIGHT, y], Math.min(share * thickness, ROW - 3)),
        labelX: RIGHT + 8,
        labelY: y + 4,
      }
    })
    top += height + GAP
    const entry = frontend ? band([LEFT, middle], [POOL - POOL_HALF, middle], total > 0 ? thickness : 2) : ''
    const key = `${frontend?.name ?? ''}/${pool.name}`
    return { key, frontend, pool, middle, poolX: POOL, entry, ribbons }
  })
  return { lanes, height: top }
}
