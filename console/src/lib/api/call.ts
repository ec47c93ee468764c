// Calls to the API. A session is known by a cookie that scripts can't read.

import type {
  AddressDetail,
  AddressOrderRequest,
  Addresses,
  AnnouncementDetail,
  Announcements,
  NodeOrderRequest,
  Certificate,
  Between,
  Change,
  Diagnosis,
  Draft,
  DraftReview,
  DrainState,
  DutiesResponse,
  DutyTerms,
  Edit,
  Explanation,
  Fact,
  FrontendDiagnosis,
  Handshakes,
  Hosts,
  Keys,
  Probes,
  Problem,
  Review,
  Roll,
  Limits,
  MachineReport,
  Nodes,
  Refusals,
  RuleCounts,
  RollPlan,
  RevisionHead,
  SentMessage,
  ServerStatus,
  ObjectView,
  Objects,
  PinKeyTimes,
  Pins,
  Tokens,
  Trial,
  TrialRequest,
  TryAnswer,
  Warned,
  WindowAnswer,
  WindowPlan,
  Windows,
} from './types'

/** The service said no, or could not be reached; the message says what to do. */
export class CallError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly kind: string,
    /** Every mistake of a refused document. */
    readonly problems: Problem[] = [],
    /** The warnings that have to be accepted first. */
    readonly warnings: Warned[] = [],
    /** What happened since the revision that a refused change was based on. */
    readonly between: Between | null = null,
  ) {
    super(message)
  }
}

/** What went wrong, in words. */
export const words = (error: unknown) => (error instanceof Error ? error.message : String(error))

/** Called when a call finds that the session has ended. */
export const session = { ended: () => {} }

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let response: Response
  try {
    response = await fetch(`/api/v1${path}`, {
      method,
      headers: body === undefined ? {} : { 'content-type': 'application/json' },
      body: body === undefined ? null : JSON.stringify(body),
    })
  } catch {
    throw new CallError('The service can’t be reached. Is merismosd running?', 0, '')
  }
  if (!response.ok) {
    const problem = await response.json().catch(() => ({}))
    if (response.status === 401 && path !== '/session') {
      session.ended()
      throw new CallError('Your session has ended. Log in again; what you typed stays here.', 401, problem.type ?? '')
    }
    throw new CallError(
      problem.detail ?? `The service answered ${response.status}.`,
      response.status,
      problem.type ?? '',
      problem.problems ?? [],
      problem.warnings ?? [],
      problem.between ?? null,
    )
  }
  return (response.status === 204 ? undefined : await response.json()) as T
}

export const logIn = (token: string) => call<void>('POST', '/session', { token })
export const logOut = () => call<void>('DELETE', '/session')
export const tokens = () => call<Tokens>('GET', '/tokens')
export const createToken = (name: string) => call<{ name: string; token: string }>('POST', '/tokens', { name })
export const revokeToken = (name: string) => call<unknown>('DELETE', `/tokens/${name}`)
export const events = (limit: number) => call<{ events: Fact[] }>('GET', `/events?limit=${limit}`)
export const findEvents = (wanted: Record<string, string>) => call<{ events: Fact[]; complete: boolean }>('GET', `/events?${new URLSearchParams(wanted)}`)
export const isLoggedIn = () => call<unknown>('GET', '/events?limit=1')

export const resetTotals = () => call<{ at: string }>('POST', '/totals/reset')
export const failBack = (pool: string) => call<{ tier: number }>('POST', `/pools/${pool}/failback`)
export const explain = (frontend: string, facts: Record<string, string>) => call<Explanation>('GET', `/frontends/${frontend}/explain${query(facts)}`)
/** Limits of clients, with what they let pass and held off. */
export const limits = () => call<Limits>('GET', '/limits')
/** The nodes that share the database. */
export const nodes = () => call<Nodes>('GET', '/nodes')
/** Whether the machine of the node that answers is enough for it. */
export const machine = () => call<MachineReport>('GET', '/machine')
export const orderNode = (node: string, body: NodeOrderRequest) => call<Addresses>('POST', `/nodes/${node}/order`, body)
/** Addresses that move between nodes. */
export const addresses = () => call<Addresses>('GET', '/addresses')
export const address = (name: string) => call<AddressDetail>('GET', `/addresses/${name}`)
/** Addresses that nodes announce to routers. */
export const announcements = () => call<Announcements>('GET', '/announcements')
export const announcement = (name: string) => call<AnnouncementDetail>('GET', `/announcements/${name}`)
export const orderAddress = (name: string, body: AddressOrderRequest) => call<AddressDetail>('POST', `/addresses/${name}/order`, body)
export const removeNode = (node: string) => call<unknown>('DELETE', `/nodes/${node}`)
/** The rules of a frontend, in order, with what they counted. */
export const refusals = (frontend: string) => call<Refusals>('GET', `/frontends/${frontend}/refusals`)
export const ruleCounts = (frontend: string) => call<RuleCounts>('GET', `/frontends/${frontend}/rules`)
const atServer = (server: string, what: string) => {
  const [pool, name] = server.split('/')
  return `/servers/${pool}/${name}/${what}`
}
export const probes = (server: string) => call<Probes>('GET', atServer(server, 'probes'))
export const tryCheck = (check: string, servers: string[], keys: Keys) => call<TryAnswer>('POST', `/checks/${check}/try`, { servers, keys })
export const messages = (limit: number) => call<{ messages: SentMessage[] }>('GET', `/notifications?limit=${limit}`)
export const tryMessage = (name: string) => call<{ messages: SentMessage[] }>('POST', `/notifications/${name}/try`)
export const diagnoseFrontend = (frontend: string, host: string | null) => call<FrontendDiagnosis>('POST', `/frontends/${frontend}/diagnosis${query({ host })}`)
export const diagnose = (server: string) => call<Diagnosis>('POST', atServer(server, 'diagnosis'))
export const server = (name: string) => call<ServerStatus>('GET', atServer(name, '').replace(/\/$/, ''))
export const giveDuties = (servers: string[], terms: DutyTerms) => call<DutiesResponse>('POST', '/duties', { servers, ...terms })
export const pins = (pool: string, which: Record<string, string>) => call<Pins>('GET', `/pools/${pool}/pins${query(which)}`)
export const certificates = () => call<{ certificates: Certificate[] }>('GET', '/certificates')
/** Orders a certificate from its authority now; one that holds only when it is to be renewed. */
export const orderCertificate = (name: string, renew: boolean) => call<Certificate>('POST', `/certificates/${name}/orders`, { renew })
export const handshakes = (host: string) => call<Handshakes>('GET', `/certificates/handshakes${query({ host })}`)
export const pinKey = () => call<PinKeyTimes>('GET', '/pin-key')
export const renewPinKey = () => call<PinKeyTimes>('POST', '/pin-key')
export const removePins = (pool: string, which: Record<string, string>) => call<{ removed: number }>('DELETE', `/pools/${pool}/pins${query(which)}`)
export const windows = (days: number) => call<Windows>('GET', `/windows?days=${days}`)
export const putWindow = (name: string, plan: WindowPlan) => call<WindowAnswer>('PUT', `/windows/${name}`, plan)
export const removeWindow = (name: string) => call<void>('DELETE', `/windows/${name}`)
export const rolls = () => call<{ rolls: Roll[] }>('GET', '/rolls')
export const beginRoll = (plan: RollPlan, preview: boolean) => call<Roll>('POST', '/rolls', { plan, preview })
export const orderRoll = (id: number, order: 'pause' | 'resume' | 'stop') => call<Roll>('POST', `/rolls/${id}/order`, { order })
export const reportWork = (id: number, server: string, outcome: 'done' | 'failed') => call<Roll>('POST', `/rolls/${id}/work`, { server, outcome })
export const drains = () => call<{ servers: DrainState[] }>('GET', '/drains')

export const beginTrial = (request: TrialRequest) => call<Trial>('POST', '/trials', request)
export const trial = (id: number) => call<Trial>('GET', `/trials/${id}`)

/** A query of those values that are there. */
function query(values: Record<string, string | number | null | undefined>): string {
  const pairs = Object.entries(values).filter(([, value]) => value !== null && value !== undefined && value !== '')
  return pairs.length === 0 ? '' : `?${new URLSearchParams(pairs.map(([key, value]) => [key, String(value)]))}`
}

export interface Wanted {
  kind?: string
  inside?: string
  search?: string
  labels?: string
  draft?: string | null
  offset?: number
  limit?: number
}

export const objects = (expected: Wanted) => call<Objects>('GET', `/objects${query({ ...expected })}`)
export const object = (path: string, draft: string | null) => call<ObjectView>('GET', `/objects/${path}${query({ draft })}`)
export const hosts = (expected: Wanted) => call<Hosts>('GET', `/hosts${query({ ...expected })}`)

/** How a change goes live. */
export interface Going {
  note?: string
  preview?: boolean
  quick?: boolean
  based_on?: number
  accept?: string[]
  /** Servers that the change adds join withdrawn. */
  withdrawn?: boolean
}

export const change = (edits: Edit[], going: Going) => call<Review>('POST', '/changes', { edits, ...going })

export const drafts = () => call<{ drafts: Draft[] }>('GET', '/drafts')
export const beginDraft = (name: string, note: string) => call<Draft>('POST', '/drafts', { name, note })
export const draft = (name: string) => call<DraftReview>('GET', `/drafts/${name}`)
export const editDraft = (name: string, edits: Edit[], more: { preview?: boolean; accept?: string[] } = {}) =>
  call<DraftReview>('POST', `/drafts/${name}/edits`, { edits, ...more })
export const deployDraft = (name: string, going: Going) => call<Review>('POST', `/drafts/${name}/deploy`, going)
export const rebaseDraft = (name: string) => call<DraftReview>('POST', `/drafts/${name}/rebase`)
export const discardDraft = (name: string) => call<void>('DELETE', `/drafts/${name}`)

export const revisions = (before: number | null, limit: number) => call<{ revisions: RevisionHead[] }>('GET', `/revisions${query({ before, limit })}`)
export const revision = (number: number) => call<{ revision: RevisionHead; changes: Change[]; document: string }>('GET', `/revisions/${number}`)
export const compare = (from: number, to: number) => call<Between>('GET', `/compare?from=${from}&to=${to}`)
export const revert = (number: number, going: Going) => call<Review>('POST', `/revisions/${number}/revert`, going)
