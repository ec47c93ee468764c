// One live stream for all pages of a browser: a browser makes six connections to a host at most, and each stream takes one.

/** What a page tells the worker: which pool's servers it looks at, or that it looks no more. */
export type ToWorker = { watch: string | null } | { leave: true }
/** What the worker tells a page. */
export type FromWorker = { kind: 'open' | 'error' } | { kind: 'status' | 'event' | 'trial'; data: string }

interface Stream {
  source: EventSource
  pages: Set<MessagePort>
  /** Whether it is open, and the newest status, for pages that come later. */
  open: boolean
  status: string | null
}

const streams = new Map<string, Stream>()

const tell = (page: MessagePort, message: FromWorker) => page.postMessage(message)

function leave(page: MessagePort) {
  for (const [key, stream] of streams) {
    if (stream.pages.delete(page) && stream.pages.size === 0) {
      stream.source.close()
      streams.delete(key)
    }
  }
}

function watch(page: MessagePort, pool: string | null) {
  leave(page)
  const key = pool ?? ''
  const known = streams.get(key)
  if (known) {
    known.pages.add(page)
    if (known.open) tell(page, { kind: 'open' })
    if (known.status) tell(page, { kind: 'status', data: known.status })
    return
  }
  const source = new EventSource(pool ? `/api/v1/stream?pool=${pool}` : '/api/v1/stream')
  const stream: Stream = { source, pages: new Set([page]), open: false, status: null }
  streams.set(key, stream)
  const all = (message: FromWorker) => stream.pages.forEach((it) => tell(it, message))
  source.addEventListener('open', () => {
    stream.open = true
    all({ kind: 'open' })
  })
  for (const kind of ['status', 'event', 'trial'] as const) {
    source.addEventListener(kind, (message) => {
      if (kind === 'status') stream.status = message.data
      all({ kind, data: message.data })
    })
  }
  // Whether it is worth trying again is for the pages to find out: the session may have ended.
  source.addEventListener('error', () => {
    source.close()
    if (streams.get(key) === stream) streams.delete(key)
    all({ kind: 'error' })
  })
}

/** Serves a page. */
export function serve(page: MessagePort) {
  page.addEventListener('message', (message: MessageEvent<ToWorker>) => {
    if ('watch' in message.data) watch(page, message.data.watch)
    else leave(page)
  })
  page.start()
}

// Where there is no shared worker, a page serves itself.
if (typeof window === 'undefined') {
  const scope = self as unknown as { onconnect: (event: MessageEvent) => void }
  scope.onconnect = (event) => {
    const [page] = event.ports
    if (page) serve(page)
  }
}
