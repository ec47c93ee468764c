<script lang="ts">
  import { drains } from '../api/call'
  import type { DrainState, DutiesResponse } from '../api/types'
  import { ago } from '../format/format'
  import { drainWords, openCount, openWords } from '../format/drain'

  // How far the servers of an order are, until all of them can be worked on.
  let { done }: { done: DutiesResponse } = $props()

  const LOOK_EVERY_MS = 500

  let states = $state.raw<DrainState[]>([])
  let now = $state(Date.now())
  /** The most that was open at each, to draw what is left of it. */
  const most = $state<Record<string, number>>({})
  let gone = $state('')

  $effect(() => {
    let current = true
    const look = async () => {
      try {
        const found = await drains()
        if (!current) return
        states = found.servers.filter((it) => done.servers.some((asked) => asked.server === it.server))
        for (const it of states) most[it.server] = Math.max(most[it.server] ?? 0, openCount(it.draining.open))
        gone = ''
      } catch {
        if (current) gone = 'The service does not answer; the drain goes on there.'
      }
      now = Date.now()
    }
    void look()
    const timer = setInterval(() => void look(), LOOK_EVERY_MS)
    return () => {
      current = false
      clearInterval(timer)
    }
  })

  const at = $derived(new Date(now).toISOString())
  const back = $derived(done.servers.filter((asked) => states.length > 0 && !states.some((it) => it.server === asked.server)))
  const isReady = $derived(states.length > 0 && states.every((it) => it.draining.safe))
  const time = (moment: string) => new Date(moment).toLocaleTimeString('en-GB')
</script>

<div aria-live="polite" data-testid="drain-progress">
  {#each done.overridden ?? [] as said (said)}<p class="mb-2 text-warning">! Done although {said}.</p>{/each}
  <ul class="grid gap-3">
    {#each states as { server, order, draining } (server)}
      {@const open = openCount(draining.open)}
      <li data-drain={server}>
        <div class="flex items-baseline justify-between gap-4">
          <span class="font-semibold">{server}</span>
          {#if draining.safe}<span class="text-success">✓ can be worked on</span>
          {:else if draining.over}<span class="text-warning">its deadline has passed; what was open is being closed</span>
          {:else}<span>{drainWords(draining)}</span>{/if}
        </div>
        <progress
          class="progress w-full"
          class:progress-success={draining.safe}
          max={Math.max(most[server] ?? 0, 1)}
          value={draining.safe ? Math.max(most[server] ?? 0, 1) : (most[server] ?? 0) - open}
          aria-label={`Drain of ${server}`}
        ></progress>
        <p class="text-secondary">
          {#if draining.cut.requests + draining.cut.connections + draining.cut.tunnels > 0}
            <span class="text-error">! its deadline cut {openWords(draining.cut).replace(' open', '')}.</span>
          {/if}
          {#if !draining.safe}
            {#if draining.ends_per_second}{draining.ends_per_second.toFixed(1)} end a second.{/if}
            {#if draining.estimated_end && draining.estimated_end > at}Empty in about {ago(at, draining.estimated_end)}.{/if}
            {#if draining.clients_tied && draining.ties_end === null}Clients that are tied to it come for as long as they like: drain it within a time, or move
              them.{:else if draining.ties_end && draining.ties_end > at}Tied clients may come until {time(draining.ties_end)}.{/if}
            {#if order.deadline && order.deadline > at}What is open at {time(order.deadline)} is closed.{/if}
          {/if}
        </p>
      </li>
    {/each}
    {#each back as { server } (server)}<li>{server} is in service again, by another order.</li>{/each}
  </ul>
  {#if gone}<p class="mt-3 text-error">✕ {gone}</p>{/if}
  {#if isReady}<p class="mt-3 text-success">✓ Nothing is open, and no client can come: it is safe to work.</p>
  {:else}<p class="mt-3 text-secondary">The drain goes on when this is closed; the overview shows it.</p>{/if}
</div>
