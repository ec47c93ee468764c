// The API's types, as /api/v1/openapi.json describes them.

export type Duty = 'in_service' | 'draining' | 'withdrawn'
export type HealthState = 'unproven' | 'up' | 'suspect' | 'down' | 'recovering'

export interface Evidence {
  at: string
  tried: string
  step: 'connect' | 'answer' | 'status' | 'done'
  got: string
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

export interface ServerStatus {
  server: string
  address: string
  weight: number
  duty: Order | null
  health: {
    checked: boolean
    state: HealthState
    since: string
    last_probe: Evidence | null
    failures_to_down: number | null
    passes_to_up: number | null
  }
  eligible: boolean
  reason: string | null
  reason_words: string | null
  expected: number
  observed: { ten_seconds: Window; minute: Window }
  in_flight: number
}

export interface Delay {
  best_ms: number
  average_ms: number
  worst_ms: number
}

export interface PoolStatus {
  name: string
  algorithm: string
  check: { name: string; asks: string; timing: { noticed: Delay; back: Delay; probes_per_minute: number } } | null
  eligible: number
  servers: ServerStatus[]
}

export interface FrontendStatus {
  name: string
  protocol: string
  listen: string
  pool: string
  listening: boolean
  trouble: string | null
  connections: number
  per_second: number
  refused: number
  unavailable: number
  unanswered: number
}

export interface Status {
  at: string
  node: { version: string; started: string; workers: number }
  revision: { number: number; author: string; note: string; at: string }
  records: { kept: boolean; waiting: number; lost: number; why: string | null }
  troubles: string[]
  frontends: FrontendStatus[]
  pools: PoolStatus[]
}

export type EventKind = 'health' | 'duty' | 'revision' | 'node' | 'trial'

export interface Fact {
  id: number
  at: string
  kind: EventKind
  subject: string
  says: string
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

export interface Trial {
  id: number
  at: string
  request: { frontend: string; requests: number; concurrency: number; path: string }
  state: 'running' | 'done'
  ended: number
  took_ms: number
  tally: {
    rows: TallyRow[]
    requests: number
    failed: number
    without_server: number
    retried: number
    test: { statistic: number; freedom: number; p_value: number } | null
    verdict: 'as_expected' | 'not_as_expected' | 'too_few'
    because: string[]
  } | null
  happened: { after_ms: number; subject: string; says: string }[]
}
