<script lang="ts">
  import Alert from './Alert.svelte'
  import { CallError, giveDuty } from '../api/call'
  import type { Duty, ServerStatus } from '../api/types'
  import { live } from '../live/live.svelte'
  import Dialog from './Dialog.svelte'

  // Of one server, or of several at once.
  let { servers, onclose }: { servers: ServerStatus[]; onclose: () => void } = $props()

  let reason = $state('')
  let trouble = $state('')
  let evenIfLast = $state(false)
  let isLast = $state(false)

  const all = $derived(servers.map((server) => live.status?.pools.flatMap((pool) => pool.servers).find((it) => it.server === server.server) ?? server))
  const now = $derived(all[0]!)
  const duty = $derived<Duty>(now.duty?.duty ?? 'in_service')
  const inFlight = $derived(all.reduce((sum, it) => sum + it.in_flight, 0))
  const each = $derived(servers.length === 1 ? 'the server' : 'them')
  let busy = $state(false)

  const choices: { duty: Duty; verb: string; means: string }[] = [
    { duty: 'draining', verb: 'Drain', means: 'no new clients; those it has may finish' },
    { duty: 'withdrawn', verb: 'Withdraw', means: 'nothing more, at once' },
    { duty: 'in_service', verb: 'Return', means: 'back in service as soon as its health allows' },
  ]

  async function give(chosen: Duty) {
    trouble = ''
    // That it may work again needs no explaining.
    const why = reason.trim() || (chosen === 'in_service' ? 'it may work again' : '')
    if (why === '') {
      trouble = `Say why: the reason is shown to everyone who sees ${each}.`
      return
    }
    const failed: string[] = []
    busy = true
    // One after the other, so that the last eligible one is still asked about.
    for (const server of all.filter((it) => (it.duty?.duty ?? 'in_service') !== chosen)) {
      try {
        await giveDuty(server.server, chosen, why, evenIfLast)
      } catch (error) {
        failed.push(`${servers.length > 1 ? `${server.server}: ` : ''}${error instanceof Error ? error.message : String(error)}`)
        isLast ||= error instanceof CallError && error.kind === '/problems/last-eligible-server'
      }
    }
    busy = false
    if (failed.length === 0) onclose()
    else trouble = failed.join(' ')
  }
</script>

<Dialog title={servers.length === 1 ? `Duty of ${now.server}` : `Duty of ${servers.length} servers`} {onclose}>
  {#if servers.length > 1}
    <ul class="mb-3 max-h-40 overflow-auto text-secondary">
      {#each all as it (it.server)}<li>
          {it.server}: {(it.duty?.duty ?? 'in_service').replace('_', ' ')}{it.duty && it.duty.duty !== 'in_service'
            ? `, by ${it.duty.who}: ${it.duty.reason}`
            : ''}
        </li>{/each}
    </ul>
    <p class="mb-3 text-secondary">{inFlight} requests are in flight at them.</p>
  {:else}
    <p class="mb-3 text-secondary">
      It is {duty.replace('_', ' ')}{now.duty ? `, by ${now.duty.who}: ${now.duty.reason}` : ''}. {now.in_flight} requests are in flight.
    </p>
  {/if}
  <label class="mb-1 block" for="reason">Reason</label>
  <input id="reason" class="input w-full" maxlength="500" bind:value={reason} placeholder="new disk, ticket 4711" />
  {#if trouble}<Alert class="mt-2">{trouble}</Alert>{/if}
  {#if isLast}
    <label class="mt-2 flex items-center gap-2">
      <input type="checkbox" class="checkbox checkbox-sm" bind:checked={evenIfLast} />
      Do it even though no eligible server is left
    </label>
  {/if}
  <div class="mt-4 grid gap-2 sm:grid-cols-3">
    {#each choices as choice (choice.duty)}
      <div>
        <button class="btn w-full" disabled={busy || all.every((it) => (it.duty?.duty ?? 'in_service') === choice.duty)} onclick={() => give(choice.duty)}
          >{choice.verb}</button
        >
        <p class="mt-1 text-secondary">{choice.means}</p>
      </div>
    {/each}
  </div>
</Dialog>
