<script lang="ts">
  import Alert from './Alert.svelte'
  import { handshakes, words } from '../api/call'
  import type { Handshakes } from '../api/types'

  // Asks the frontends that speak TLS for a host, as a client would, and says why one would warn.
  let host = $state('')
  let found = $state.raw<Handshakes | null>(null)
  let busy = $state(false)
  let trouble = $state('')

  async function run(event: SubmitEvent) {
    event.preventDefault()
    busy = true
    try {
      ;[found, trouble] = [await handshakes(host.trim().toLowerCase()), '']
    } catch (error) {
      ;[found, trouble] = [null, words(error)]
    }
    busy = false
  }
</script>

<section class="mb-4 border-t border-base-300 pt-3" aria-label="What a client is shown">
  <form class="flex flex-wrap items-end gap-2" onsubmit={run}>
    <label
      >What is a client shown that asks for <input
        class="input input-sm w-72"
        bind:value={host}
        placeholder="booking.skerry.example"
        data-testid="try-host"
      /></label
    >
    <button class="btn btn-sm" disabled={busy || host.trim() === ''}>{busy ? 'Asking …' : 'Try it'}</button>
  </form>
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if found}
    <div class="mt-2 space-y-2" aria-live="polite" data-testid="handshakes">
      <p class="text-secondary">
        {found.host}
        {found.leads_to.length > 0 ? `leads to ${found.leads_to.join(', ')}` : 'leads nowhere, as the resolver of the service’s machine says'}.
        {#if found.handshakes.length === 0}No frontend speaks TLS.{/if}
      </p>
      {#each found.handshakes as it (it.frontend)}
        <div>
          <a class="link font-semibold" href={`/frontends/${it.frontend}`}>{it.frontend}</a>
          <span class="text-secondary">
            {[it.address, it.version, it.cipher, it.protocol, it.certificate ? `certificate ${it.certificate}` : null]
              .filter((fact) => fact !== null)
              .join(' · ')}
          </span>
          <ol class="ml-6 list-decimal">
            {#each it.chain as link (link.sha256)}
              <li>
                {link.names.join(', ') || link.subject}
                <span class="text-secondary"
                  >· {link.key} · by {link.issuer === link.subject ? 'itself' : link.issuer} · until {link.not_after.slice(0, 10)}</span
                >
              </li>
            {/each}
          </ol>
          {#each it.reasons as reason (reason)}
            <p><span class="text-error">✕</span> {reason}</p>
          {:else}
            <p><span class="text-success">●</span> a client that trusts whom the service’s machine trusts takes it without a warning</p>
          {/each}
        </div>
      {/each}
    </div>
  {/if}
</section>
