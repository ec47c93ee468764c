<script lang="ts">
  import { CallError, giveDuty } from '../api/call'
  import type { Duty, ServerStatus } from '../api/types'
  import { live } from '../live/live.svelte'
  import Dialog from './Dialog.svelte'

  let { server, onclose }: { server: ServerStatus; onclose: () => void } = $props()

  let reason = $state('')
  let trouble = $state('')
  let evenIfLast = $state(false)
  let isLast = $state(false)

  const now = $derived(
    live.status?.pools.flatMap((pool) => pool.servers).find((it) => it.server === server.server) ?? server,
  )
  const duty = $derived<Duty>(now.duty?.duty ?? 'in_service')

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
      trouble = 'Say why, for whoever finds the server like this.'
      return
    }
    try {
      await giveDuty(server.server, chosen, why, evenIfLast)
      onclose()
    } catch (error) {
      trouble = error instanceof Error ? error.message : String(error)
      isLast = error instanceof CallError && error.kind === '/problems/last-eligible-server'
    }
  }
</script>

<Dialog title={`Duty of ${server.server}`} {onclose}>
  <p class="mb-3 text-secondary">
    It is {duty.replace('_', ' ')}{now.duty ? `, by ${now.duty.who}: ${now.duty.reason}` : ''}. {now.in_flight} requests are in
    flight.
  </p>
  <label class="mb-1 block" for="reason">Reason</label>
  <input id="reason" class="input w-full" maxlength="500" bind:value={reason} placeholder="new disk, ticket 4711" />
  {#if trouble}<p class="mt-2 text-error" role="alert">✕ {trouble}</p>{/if}
  {#if isLast}
    <label class="mt-2 flex items-center gap-2">
      <input type="checkbox" class="checkbox checkbox-sm" bind:checked={evenIfLast} />
      Do it even though no eligible server is left
    </label>
  {/if}
  <div class="mt-4 grid gap-2 sm:grid-cols-3">
    {#each choices as choice (choice.duty)}
      <div>
        <button class="btn w-full" disabled={choice.duty === duty} onclick={() => give(choice.duty)}>{choice.verb}</button>
        <p class="mt-1 text-secondary">{choice.means}</p>
      </div>
    {/each}
  </div>
</Dialog>
