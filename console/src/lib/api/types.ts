// The API's types, as /api/v1/openapi.json describes them.

export type Duty = 'in_service' | 'draining' | 'withdrawn'
export type HealthState = 'unproven' | 'up' | 'suspect' | 'down' | 'recovering'

export interface Evidence {
  at: string
  tried: string
  step: 'connect' | 'answer' | 'status' | 'done'
  observed: string
  took_us: number
}

export interface Order {
  duty: Duty
  reason: string
  who: string
  at: string
}

export interface Window {
  share: number | null
  per_second: number
  failed: number
  retried: number
  errors: number
}

export interface Totals {
  taken: number
  failed: number
  retried: number
  errors: number
  bytes_to: number
  bytes_from: number
}

export interface ServerStatus {
  server: string
  address: string
  weight: number
  tier: number
  found_by: string | null
  duty: Order | null
  draining: { quiet_since: string | null; clients_tied: boolean } | null
  health: {
    checked: boolean
    state: HealthState
    since: string
    watched_until: string | null
    last_probe: Evidence | null
    failures_to_down: number | null
    passes_to_up: number | null
    feedback: 'drain' | { share: number } | null
    flapping: boolean
    held_until: string | null
    downs_today: number
  }
  /** How long some of its work of the last minute took. */
  latency: { measured: number; median_us: number; p99_us: number } | null
  totals: Totals
  since_reset: Totals | null
  eligible: boolean
  reason: string | null
  reason_words: string | null
  expected: number
  observed: { ten_seconds: Window; minute: Window }
  in_flight: number
  /** How far it has come on its ramp, 0 to 1. */
  ramp: number | null
  full: boolean
}

/** Where a piece of work would go, and why nowhere else. */
export interface Explanation {
  frontend: string
  pool: string
  why_pool: string | null
  algorithm: string
  unit: string
  key: string | null
  revision: number
  server: string | null
  why: string
  others: { server: string; why: string }[]
}

export type Step = 'connect' | 'tls' | 'answer' | 'status' | 'body' | 'done'

export interface Mark {
  at: string
  passed: boolean
  step: Step
  took_us: number
  observed: string
  to: string | null
}

export interface Probes {
  server: string
  checked: boolean
  state: string
  since: string
  changes_today: number
  message: string
  next: string | null
  marks: Mark[]
}

export interface TryAnswer {
  asks: string
  tries: { server: string; address: string; passed: boolean; evidence: Evidence & { steps: { step: Step; took_us: number; observed: string }[] } }[]
}

/** A message to people, and what became of it. */
export interface SentMessage {
  name: string
  via: string
  at: string
  message: string
  tries: number
  delivered: string | null
  next_try: string | null
  why: string | null
}

export interface Rung {
  what: string
  step: Step | null
  works: boolean
  observed: string
  took_us: number | null
  there: string | null
}

export interface Diagnosis {
  server: string
  address: string
  against: string | null
  rungs: Rung[]
  works: boolean
  message: string
  causes: string[]
  next: string[]
}

export interface Delay {
  best_ms: number
  average_ms: number
  worst_ms: number
}

export interface Timing {
  noticed: Delay
  back: Delay
  probes_per_minute: number
}

export interface LookupStatus {
  lookup: string
  name: string
  found: number
  at: string | null
  trouble: string | null
}

export interface PoolStatus {
  more_checks: string[]
  sends_to_all: boolean
  name: string
  algorithm: string
  shares_go_by: string | null
  check: { name: string; asks: string; timing: Timing; probes_per_minute: number; at_stake: { per_second: number; average: number; worst: number } } | null
  size: number
  eligible: number
  failing: number
  per_second: number
  tier: number | null
  held: boolean
  waiting: number
  waited_in_vain: number
  lookups: LookupStatus[]
  servers: ServerStatus[]
}

export interface FrontendStatus {
  name: string
  protocol: string
  unit: string
  listen: string
  pool: string
  pools: { pool: string; usable: boolean; expected: number | null }[]
  listening: boolean
  trouble: string | null
  connections: number
  per_second: number
  turned_away: number
  refused: number
  unavailable: number
  unanswered: number
  cut_for_memory: number
}

export interface Status {
  at: string
  node: { version: string; started: string; workers: number; totals_reset: string | null }
  revision: { number: number; author: string; note: string; at: string }
  records: { kept: boolean; waiting: number; lost: number; why: string | null }
  troubles: string[]
  servers: number
  shortened: boolean
  frontends: FrontendStatus[]
  pools: PoolStatus[]
}

export const EVENT_KINDS = ['health', 'duty', 'revision', 'draft', 'lookup', 'tier', 'traffic', 'node', 'trial', 'message', 'token'] as const
export type EventKind = (typeof EVENT_KINDS)[number]

export interface Fact {
  id: number
  at: string
  kind: EventKind
  subject: string
  message: string
}

export interface TallyRow {
  server: string
  expected: number
  observed: number
  requests: number
  failed: number
  retried: number
  median_us: number | null
  p99_us: number | null
}

export interface TrialRequest {
  frontend: string
  requests: number
  concurrency: number
  clients?: number
  from?: string
  keep_cookies?: boolean
  path?: string
  say?: string
  one_way?: boolean
}

export interface Trial {
  id: number
  at: string
  request: TrialRequest
  sends: 'requests' | 'connections' | 'datagrams' | 'one_way'
  state: 'running' | 'done'
  ended: number
  took_ms: number
  tally: {
    rows: TallyRow[]
    requests: number
    failed: number
    without_server: number
    retried: number
    tied: number
    strayed: number
    test: { statistic: number; freedom: number; p_value: number } | null
    verdict: 'as_expected' | 'not_as_expected' | 'too_few'
    because: string[]
  } | null
  happened: { after_ms: number; subject: string; message: string }[]
}

export type Kind = 'host' | 'range' | 'reserved' | 'check' | 'pool' | 'server' | 'lookup' | 'frontend' | 'notification' | 'network'

/** A value of a key: what JSON holds. */
export type Json = string | number | boolean | null | Json[] | { [key: string]: Json }
export type Keys = { [key: string]: Json }

export interface ObjectView {
  path: string
  kind: Kind
  name: string
  summary: string
  note: string
  labels: Record<string, string>
  used_by: string[]
  keys: Keys
  /** What a check's timing means. */
  timing?: Timing
}

export interface Objects {
  revision: number
  total: number
  objects: ObjectView[]
}

export interface HostView {
  address: string
  name: string | null
  note: string
  labels: Record<string, string>
  servers: string[]
}

export interface Hosts {
  total: number
  hosts: HostView[]
}

export type Edit =
  | { do: 'add' | 'change'; object: string; keys: Keys }
  | { do: 'copy'; object: string; to: string; keys: Keys }
  | { do: 'rename'; object: string; to: string }
  | { do: 'remove'; object: string }
  | { do: 'add_servers'; pool: string; lines: string; weight?: number; tier?: number }
  | { do: 'import_hosts'; format: 'hosts' | 'csv'; text: string }
  | { do: 'reserve'; range: string; name: string; address?: string }

export interface Change {
  path: string
  old: string | null
  new: string | null
  renamed?: boolean
  description: string
}

export interface Accepted {
  key: string
  message: string
  who: string
  at: string
}

export interface Warned {
  key: string
  kind: string
  level: 'warning' | 'notice'
  path: string
  message: string
  help: string
  known: boolean
  /** Whether it is about something that the change touches. */
  touched: boolean
  accepted: Accepted | null
}

export interface Review {
  revision: number
  made: boolean
  changes: Change[]
  impact: {
    frontends: string[]
    pools: string[]
    moves: { server: string; before: number | null; after: number | null; why_none: string | null }[]
    pool_moves: { frontend: string; pool: string; before: number | null; after: number | null }[]
    rooms: { pool: string; room: 'in_flight' | 'connections' | 'each_second'; before: number | null; after: number | null }[]
    timings: { pool: string | null; check: string; before: Timing | null; after: Timing | null }[]
  }
  touched: { whose: string; count: number; message: string }[]
  warnings: Warned[]
}

export interface Between {
  from: number
  to: number
  changes: Change[]
}

export interface Problem {
  path: string
  line: number | null
  found: string
  expected: string
}

export interface Draft {
  name: string
  owner: string
  note: string
  base: number
  stale: boolean
  version: number
  created: string
  changed: string
}

export interface DraftReview {
  draft: Draft
  mistakes: Problem[]
  changes: Change[]
  review: Review | null
  between: Between | null
  accepted: Accepted[]
}

export interface RevisionHead {
  number: number
  author: string
  note: string
  at: string
  /** What it changed, in a line. */
  changed: string
  running: boolean
  accepted: Accepted[]
}

export interface Tokens {
  tokens: { name: string; made: string; used: string | null; revoked: string | null }[]
  yours: string
}
