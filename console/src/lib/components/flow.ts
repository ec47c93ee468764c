// The geometry of the flow drawing: plain numbers in, paths out.

import { linkHorizontal } from 'd3-shape'
import type { FrontendStatus, PoolStatus, ServerStatus, Status } from '../api/types'

export const WIDTH = 860
export const LEFT = 222
const POOL = 408
export const POOL_HALF = 106
const RIGHT = 640
/** The least height of a server's row; a thick ribbon makes its row higher, so that ribbons never overlap. */
const ROW = 26
const ROW_GAP = 6
const GAP = 16
/** The height of a frontend's and a pool's box. */
export const BOX = 42
/** The thickness of a pool's band, from the quietest to the busiest. */
const THINNEST = 24
const THICKEST = 68

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
  /** The frontend's box stands here; its other pools only have a way to it. */
  first: boolean
  pool: PoolStatus
  /** Which part of the frontend's work the pool gets, where there are several. */
  part: string
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
  const of = (frontend: FrontendStatus) => (frontend.pools.length > 0 ? frontend.pools : [{ pool: frontend.pool, usable: true, expected: null }])
  const used = new Set(status.frontends.flatMap((frontend) => of(frontend).map((it) => it.pool)))
  const pairs: { frontend: FrontendStatus | null; first: boolean; pool: PoolStatus; part: string }[] = []
  for (const frontend of status.frontends) {
    of(frontend).forEach((it, index) => {
      const pool = pools.get(it.pool)
      const part = frontend.pools.length === 0 ? '' : !it.usable ? ' · not usable' : it.expected === null ? '' : ` · gets ${Math.round(it.expected * 100)} %`
      if (pool) pairs.push({ frontend, first: index === 0, pool, part })
    })
  }
  for (const pool of status.pools) if (!used.has(pool.name)) pairs.push({ frontend: null, first: false, pool, part: '' })

  const rateOf = (pool: PoolStatus) => pool.servers.reduce((sum, it) => sum + it.observed.ten_seconds.per_second, 0)
  const busiest = Math.max(1, ...status.pools.map(rateOf))
  let top = 4
  /** Where the box of the frontend at hand stands. */
  let home = 0
  const lanes = pairs.map(({ frontend, first, pool, part }) => {
    const total = rateOf(pool)
    const thickness = THINNEST + (THICKEST - THINNEST) * (total / busiest)
    const shareOf = (server: ServerStatus) => server.observed.ten_seconds.share ?? 0
    const rows = pool.servers.map((it) => Math.max(ROW, Math.max(it.expected, shareOf(it)) * thickness + ROW_GAP))
    const rowsHeight = rows.reduce((sum, row) => sum + row, 0)
    const height = Math.max(rowsHeight, thickness, BOX)
    const middle = top + height / 2
    let row = middle - rowsHeight / 2
    let start = middle - thickness / 2
    const ribbons = pool.servers.map((server, index) => {
      const rowHeight = rows[index] ?? ROW
      const y = row + rowHeight / 2
      row += rowHeight
      // Where a server expects nothing and still got something, its ribbon begins at the pool's lower edge.
      const wide = server.expected * thickness
      const from: [number, number] = [POOL + POOL_HALF, Math.min(start + wide / 2, middle + thickness / 2)]
      start += wide
      return {
        server,
        expected: band(from, [RIGHT, y], wide),
        observed: band(from, [RIGHT, y], shareOf(server) * thickness),
        labelX: RIGHT + 8,
        labelY: y + 4,
      }
    })
    top += height + GAP
    if (first) home = middle
    const entry = frontend ? band([LEFT, home], [POOL - POOL_HALF, middle], total > 0 ? thickness : 2) : ''
    const key = `${frontend?.name ?? ''}/${pool.name}`
    return { key, frontend, first, pool, part, middle, poolX: POOL, entry, ribbons }
  })
  return { lanes, height: top }
}
