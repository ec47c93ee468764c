<script lang="ts">
  import Alert from './Alert.svelte'
  import DrainProgress from './DrainProgress.svelte'
  import { CallError, giveDuties, server as serverState, words } from '../api/call'
  import type { Duty, DutiesResponse, ServerStatus } from '../api/types'
  import { live } from '../live/live.svelte'
  import Dialog from './Dialog.svelte'

  // Of one server, or of several in one order: those of a pool that are ticked, or all of a host.
  let { servers, of = '', onclose }: { servers: string[]; of?: string; onclose: () => void } = $props()

  let reason = $state('')
  let within = $state('')
  let pins = $state<'honour' | 'move'>('honour')
  let until = $state('')
  let atOnce = $state(false)
  let trouble = $state('')
  let anyway = $state(false)
  let isGuarded = $state(false)
  let busy = $state(false)
  /** What was ordered, when servers are on their way out. */
  let done = $state.raw<DutiesResponse | null>(null)
  /** Servers of which the live status says nothing one by one, for there are very many. */
  let fetched = $state.raw<ServerStatus[]>([])

  const lived = $derived(live.status?.pools.flatMap((pool) => pool.servers) ?? [])
  const all = $derived(servers.flatMap((name) => lived.find((it) => it.server === name) ?? fetched.find((it) => it.server === name) ?? []))
  const inFlight = $derived(all.reduce((sum, it) => sum + it.in_flight, 0))
  const one = $derived(servers.length === 1 ? all[0] : undefined)

  $effect(() => {
    const missing = servers.filter((name) => !lived.some((it) => it.server === name) && !fetched.some((it) => it.server === name))
    if (missing.length > 0 && live.status)
      Promise.all(missing.map((name) => serverState(name))).then(
        (found) => (fetched = [...fetched, ...found]),
        (error) => (trouble = words(error)),
      )
  })

  const choices: { duty: Duty; verb: string; means: string }[] = [
    { duty: 'draining', verb: 'Drain', means: 'no new clients; those it has may finish until the deadline' },
    { duty: 'withdrawn', verb: 'Withdraw', means: 'nothing more, at once' },
    { duty: 'in_service', verb: 'Return', means: 'back in service when its check has passed' },
  ]
  const isNow = (it: ServerStatus, duty: Duty) => (it.duty?.duty ?? 'in_service') === duty

  async function give(chosen: Duty) {
    trouble = ''
    // That it may work again needs no explaining.
    const why = reason.trim() || (chosen === 'in_service' ? 'it may work again' : '')
    if (why === '') {
      trouble = `Say why: the reason is shown to everyone who sees ${servers.length === 1 ? 'the server' : 'them'}.`
      return
    }
    busy = true
    try {
      const drain = chosen === 'draining' ? { pins, ...(within.trim() ? { within: within.trim() } : {}) } : {}
      const back = chosen !== 'in_service' && until ? { until: new Date(until).toISOString() } : {}
      const terms = { duty: chosen, reason: why, anyway, at_once: chosen === 'in_service' && atOnce, ...drain, ...back }
      const given = await giveDuties(servers, terms)
      if (chosen === 'draining') done = given
      else onclose()
    } catch (error) {
      trouble = words(error)
      isGuarded ||= error instanceof CallError && error.kind === '/problems/guarded'
    }
    busy = false
  }
</script>

<Dialog title={`Duty of ${of || (servers.length === 1 ? servers[0] : `${servers.length} servers`)}`} {onclose}>
  {#if done}
    <DrainProgress {done} />
  {:else}
    {#if one}
      <p class="mb-3 text-secondary">
        It is {(one.duty?.duty ?? 'in_service').replace('_', ' ')}{one.duty ? `, by ${one.duty.who}: ${one.duty.reason}` : ''}. {inFlight} in flight.
      </p>
    {:else}
      <ul class="mb-3 max-h-40 overflow-auto text-secondary">
        {#each all as it (it.server)}<li>
            {it.server}: {(it.duty?.duty ?? 'in_service').replace('_', ' ')}{it.duty && it.duty.duty !== 'in_service'
              ? `, by ${it.duty.who}: ${it.duty.reason}`
              : ''}
          </li>{/each}
      </ul>
      <p class="mb-3 text-secondary">{inFlight} in flight at them. One order is followed for all of them, or for none.</p>
    {/if}
    <label class="mb-1 block" for="reason">Reason</label>
    <input id="reason" class="input w-full" maxlength="500" bind:value={reason} placeholder="new disk, ticket 4711" />
    <div class="mt-3 grid gap-3 sm:grid-cols-3">
      <div>
        <label class="mb-1 block" for="within">Drain within</label>
        <input id="within" class="input w-full" bind:value={within} placeholder="10m" aria-describedby="within-note" />
        <p id="within-note" class="mt-1 text-secondary">then what is open is closed; empty: as the pool says</p>
      </div>
      <div>
        <label class="mb-1 block" for="pins">Pinned clients</label>
        <select id="pins" class="select w-full" bind:value={pins}>
          <option value="honour">go on until the deadline</option>
          <option value="move">go elsewhere at once</option>
        </select>
        <p class="mt-1 text-secondary">while the server drains</p>
      </div>
      <div>
        <label class="mb-1 block" for="until">Expected back</label>
        <input id="until" type="datetime-local" class="input w-full" bind:value={until} />
        <p class="mt-1 text-secondary">later than that is shown in red and reported</p>
      </div>
    </div>
    {#if trouble}<Alert class="mt-2">{trouble}</Alert>{/if}
    {#if isGuarded}
      <label class="mt-2 flex items-center gap-2">
        <input type="checkbox" class="checkbox checkbox-sm" bind:checked={anyway} />
        Do it anyway; the reason and what the guard said are kept
      </label>
    {/if}
    <div class="mt-4 grid gap-2 sm:grid-cols-3">
      {#each choices as choice (choice.duty)}
        <div>
          <button class="btn w-full" disabled={busy || (all.length > 0 && all.every((it) => isNow(it, choice.duty)))} onclick={() => give(choice.duty)}
            >{choice.verb}</button
          >
          <p class="mt-1 text-secondary">{choice.means}</p>
          {#if choice.duty === 'in_service'}
            <label class="mt-1 flex items-center gap-2">
              <input type="checkbox" class="checkbox checkbox-xs" bind:checked={atOnce} />
              at once, without check and slow start
            </label>
          {/if}
        </div>
      {/each}
    </div>
  {/if}
</Dialog>
