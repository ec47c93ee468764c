// Calls to the API. Whoever is logged in is known by a cookie that scripts can't read.

import type { Duty, Fact, Trial } from './types'

/** The service said no, or could not be reached; the message says what to do. */
export class CallError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly kind: string,
  ) {
    super(message)
  }
}

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
    throw new CallError(problem.detail ?? `The service answered ${response.status}.`, response.status, problem.type ?? '')
  }
  return (response.status === 204 ? undefined : await response.json()) as T
}

export const logIn = (token: string) => call<void>('POST', '/session', { token })
export const logOut = () => call<void>('DELETE', '/session')
export const events = (limit: number) => call<{ events: Fact[] }>('GET', `/events?limit=${limit}`)
export const isLoggedIn = () => call<unknown>('GET', '/events?limit=1')

export const giveDuty = (server: string, duty: Duty, reason: string, evenIfLast: boolean) => {
  const [pool, name] = server.split('/')
  return call<void>('PUT', `/pools/${pool}/servers/${name}/duty`, { duty, reason, even_if_last: evenIfLast })
}

export const beginTrial = (frontend: string, requests: number, concurrency: number) =>
  call<Trial>('POST', '/trials', { frontend, requests, concurrency })
export const trial = (id: number) => call<Trial>('GET', `/trials/${id}`)
