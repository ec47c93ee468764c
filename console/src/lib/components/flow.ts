// The geometry of the flow drawing: plain numbers in, paths out.

import { linkHorizontal } from 'd3-shape'
import type { FrontendStatus, PoolStatus, ServerStatus, Status } from '../api/types'

export const WIDTH = 860
export const LEFT = 222
export const POOL = 408
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

export interface FrontendBox {
  frontend: FrontendStatus
  middle: number
}

export interface PoolBox {
  pool: PoolStatus
  middle: number
  ribbons: Ribbon[]
}

/** The way from a frontend to one of its pools. */
export interface Way {
  key: string
  band: string
  /** What part of the frontend's work the pool gets, where there are several. */
  part: string
  partY: number
}

export interface Flow {
  frontends: FrontendBox[]
  pools: PoolBox[]
  ways: Way[]
  height: number
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

interface Pair {
  frontend: FrontendStatus
  pool: PoolStatus
  part: string
  /** Requests a second on this way. */
  rate: number
}

const rateOf = (pool: PoolStatus) => pool.servers.reduce((sum, it) => sum + it.observed.ten_seconds.per_second, 0)

/** Every way with its rate. What a pool gets is known, and what a frontend with one pool sends there; the rest of a pool's
 * work comes from the frontends that have several, in proportion to what each should send. */
function pairsOf(status: Status): Pair[] {
  const pools = new Map(status.pools.map((pool) => [pool.name, pool]))
  // What is redirected comes to no pool.
  const sending = status.frontends.filter((frontend) => !frontend.redirects)
  const pairs = sending.flatMap((frontend) => {
    const only = [{ pool: frontend.pool, usable: true, expected: null }]
    const several = frontend.pools.length > 0
    const shared = several || frontend.passthrough.length > 0 || frontend.ruled_pools.length > 0
    // How much is passed on by its server name is not counted apart: the pools know what they get.
    const passed = frontend.passthrough.flatMap((it) => {
      const pool = pools.get(it.pool)
      return pool ? [{ frontend, pool, part: 'by name', rate: 0, should: frontend.per_second }] : []
    })
    const chosen = (several ? frontend.pools : only).flatMap((it) => {
      const pool = pools.get(it.pool)
      const part = !several ? '' : !it.usable ? 'not usable' : it.expected === null ? '' : `${Math.round(it.expected * 100)} %`
      return pool ? [{ frontend, pool, part, rate: shared ? 0 : frontend.per_second, should: shared ? frontend.per_second * (it.expected ?? 1) : 0 }] : []
    })
    const ruled = frontend.ruled_pools.flatMap((it) => {
      const pool = pools.get(it.pool)
      const names = it.rules.length === 1 && it.more === 0 ? it.rules.join() : `${it.rules.length + it.more} rules`
      return pool && !chosen.some((way) => way.pool === pool) ? [{ frontend, pool, part: names, rate: 0, should: frontend.per_second }] : []
    })
    return [...chosen, ...passed, ...ruled]
  })
  for (const pool of status.pools) {
    const here = pairs.filter((pair) => pair.pool === pool)
    const left = Math.max(0, rateOf(pool) - here.reduce((sum, pair) => sum + pair.rate, 0))
    const should = here.reduce((sum, pair) => sum + pair.should, 0)
    if (should > 0) for (const pair of here) pair.rate += (left * pair.should) / should
  }
  return pairs
}

/** Frontends beside their first pools, as far as there is room. */
function placeFrontends(status: Status, wanted: (frontend: FrontendStatus) => number, high: (frontend: FrontendStatus) => number): FrontendBox[] {
  let free = 4
  const sorted = [...status.frontends].sort((a, b) => wanted(a) - wanted(b))
  return sorted.map((frontend) => {
    const half = Math.max(BOX, high(frontend)) / 2
    const middle = Math.max(wanted(frontend), free + half)
    free = middle + half + GAP
    return { frontend, middle }
  })
}

export function layOut(status: Status): Flow {
  const pairs = pairsOf(status)
  const busiest = Math.max(1, ...status.pools.map(rateOf))
  const thicknessOf = (pool: PoolStatus) => THINNEST + (THICKEST - THINNEST) * (rateOf(pool) / busiest)
  /** How thick a way is: its part of the pool's band, or a line where nothing goes. */
  const thick = (pair: Pair) => {
    const here = pairs.filter((it) => it.pool === pair.pool).reduce((sum, it) => sum + it.rate, 0)
    return pair.rate > 0 && here > 0 ? Math.max(2, (thicknessOf(pair.pool) * pair.rate) / here) : 2
  }
  const used = [...new Set(pairs.map((pair) => pair.pool))]
  const unused = status.pools.filter((pool) => !used.includes(pool))
  let top = 4
  const pools = [...used, ...unused].map((pool) => {
    const box = placePool(pool, top, thicknessOf(pool))
    top += box.height + GAP
    return box
  })
  const poolAt = new Map(pools.map((box) => [box.pool, box.middle]))
  const waysOf = (frontend: FrontendStatus) => pairs.filter((pair) => pair.frontend === frontend)
  const sum = (ways: Pair[]) => ways.reduce((total, pair) => total + thick(pair), 0)
  const frontends = placeFrontends(
    status,
    (frontend) => poolAt.get(waysOf(frontend)[0]?.pool ?? (status.pools.find((pool) => pool.name === frontend.pool) as PoolStatus)) ?? 0,
    (frontend) => sum(waysOf(frontend)),
  )
  // Ways leave a frontend in the order of their pools, and reach a pool in the order of their frontends.
  const arrived = new Map(used.map((pool) => [pool, (poolAt.get(pool) ?? 0) - sum(pairs.filter((pair) => pair.pool === pool)) / 2]))
  const ways = frontends.flatMap(({ frontend, middle }) => {
    const here = waysOf(frontend)
    let from = middle - sum(here) / 2
    return [...here]
      .sort((a, b) => (poolAt.get(a.pool) ?? 0) - (poolAt.get(b.pool) ?? 0))
      .map((pair) => {
        const wide = thick(pair)
        const to = arrived.get(pair.pool) ?? 0
        arrived.set(pair.pool, to + wide)
        from += wide
        const path = band([LEFT, from - wide / 2], [POOL - POOL_HALF, to + wide / 2], wide)
        return { key: `${frontend.name}/${pair.pool.name}`, band: path, part: pair.part, partY: to + wide / 2 + 4 }
      })
  })
  const lowest = frontends.at(-1)
  return { frontends, pools, ways, height: Math.max(top, lowest ? lowest.middle + BOX / 2 + GAP : 0) }
}

/** A pool's box and the ribbons to its servers, from `top` on. */
function placePool(pool: PoolStatus, top: number, thickness: number): PoolBox & { height: number } {
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
  return { pool, middle, ribbons, height }
}
