// The way to the live stream that all pages of a browser share. A hidden page does not watch.

import { serve, type FromWorker, type ToWorker } from './worker'

function connect(): MessagePort {
  if (typeof SharedWorker !== 'undefined') {
    return new SharedWorker(new URL('./worker.ts', import.meta.url), { type: 'module', name: 'live' }).port
  }
  const { port1, port2 } = new MessageChannel()
  serve(port2)
  return port1
}

export class Feed {
  #port = connect()
  #pool: string | null = null
  #watching = false

  constructor(onmessage: (message: FromWorker) => void) {
    this.#port.addEventListener('message', (message: MessageEvent<FromWorker>) => {
      if (this.#watching) onmessage(message.data)
    })
    this.#port.start()
    document.addEventListener('visibilitychange', () => {
      if (!this.#watching) return
      this.#tell(document.hidden ? { leave: true } : { watch: this.#pool })
    })
    // A page that is left may be kept and shown again.
    addEventListener('pagehide', () => this.#tell({ leave: true }))
    addEventListener('pageshow', (event) => {
      if (event.persisted && this.#watching) this.#tell({ watch: this.#pool })
    })
  }

  watch(pool: string | null) {
    this.#pool = pool
    this.#watching = true
    // The first status is worth having also while the page is hidden: a page that was opened behind others is not empty then.
    this.#tell({ watch: pool })
  }

  stop() {
    this.#watching = false
    this.#tell({ leave: true })
  }

  /** Whether the page is hidden, so that one status is enough. */
  rest() {
    if (document.hidden) this.#tell({ leave: true })
  }

  #tell(message: ToWorker) {
    this.#port.postMessage(message)
  }
}
