<script lang="ts">
  import { useAnswers } from '../api/useAnswer'
  import Alert from './Alert.svelte'
  import DataTable from './DataTable.svelte'
  import { pins, removePins, words } from '../api/call'
  import type { Pins, ServerStatus } from '../api/types'
  import { ago, moment, percent, shortName } from '../format/format'
  import { live } from '../live/live.svelte'

  // Clients that are tied to servers of a pool, as far as the service keeps that: beside it, how new clients are distributed.
  let { pool, servers }: { pool: string; servers: ServerStatus[] } = $props()

  const LIMIT = 50
  let client = $state('')
  let server = $state('')
  let found = $state.raw<Pins | null>(null)
  let trouble = $state('')
  let asking = $state(false)
  let turn = $state(0)

  const query = $derived({ ...(client.trim() ? { client: client.trim() } : {}), ...(server ? { server } : {}) })

  $effect(() => {
    void turn
    const [of, which] = [pool, query]
    return useAnswers(
      pins(of, { ...which, limit: String(LIMIT) }),
      (answer) => {
        ;[found, trouble] = [answer, '']
      },
      (error) => (trouble = words(error)),
      () => (turn += 1),
    )
  })

  async function remove() {
    try {
      await removePins(pool, query)
      asking = false
      turn += 1
    } catch (error) {
      trouble = words(error)
    }
  }

  const now = $derived(live.status?.at ?? new Date().toISOString())
  const which = $derived(
    server && client.trim() ? `of ${server} from ${client.trim()}` : server ? `of ${server}` : client.trim() ? `from ${client.trim()}` : '',
  )
</script>

<DataTable
  columns={['server', { name: 'pins', right: true }, { name: 'share, last minute', right: true }, { name: 'of new clients', right: true }]}
  class="mb-4 w-auto"
>
  {#each servers as it (it.server)}
    <tr data-pins={it.server}>
      <th scope="row" class="text-left font-normal">{shortName(it.server)}</th>
      <td class="text-right">{it.pins ?? '-'}</td>
      <td class="text-right">{percent(it.observed.minute.share)}</td>
      <td class="text-right">{percent(it.observed.minute.new_share ?? null)}</td>
    </tr>
  {/each}
</DataTable>
<div class="mb-2 flex flex-wrap items-center gap-2">
  <input class="input input-sm w-52" placeholder="client, such as 192.0.2.0/24" aria-label="Client" bind:value={client} />
  <select class="select select-sm w-40" aria-label="Server" bind:value={server}>
    <option value="">of every server</option>
    {#each servers as it (it.server)}<option value={shortName(it.server)}>{shortName(it.server)}</option>{/each}
  </select>
  {#if found && found.matching > 0}
    {#if asking}
      <span>Their clients are distributed anew when they come again.</span>
      <button class="btn btn-sm btn-warning" onclick={remove}>Remove {found.matching} pins {which}</button>
      <button class="btn btn-ghost btn-sm" onclick={() => (asking = false)}>Keep them</button>
    {:else}
      <button class="btn btn-sm" onclick={() => (asking = true)}>Remove …</button>
    {/if}
  {/if}
</div>
{#if trouble}<Alert class="mb-2">{trouble}</Alert>{/if}
{#if found}
  {#if found.limit === 0}
    <p class="text-secondary">The pool keeps no pins: its clients are not tied, or by the cookie of the service, which they keep themselves.</p>
  {:else}
    {#if found.pins.length > 0}
      <DataTable columns={['client', 'kind', 'server', 'since', { name: 'last used', right: true }, { name: 'ends in', right: true }]}>
        {#each found.pins as pin, index (index)}
          <tr>
            <td>{pin.client ?? ''}</td>
            <td>{pin.kind}</td>
            <td>{pin.server ? shortName(pin.server) : '(removed)'}</td>
            <td>{pin.made ? moment(pin.made) : ''}</td>
            <td class="text-right">{pin.used ? `${ago(pin.used, now)} ago` : ''}</td>
            <td class="text-right">{pin.until ? ago(now, pin.until) : ''}</td>
          </tr>
        {/each}
      </DataTable>
    {/if}
    <p class="mt-2 text-secondary" data-testid="pins-kept">
      {found.pins.length} of {found.matching} shown; {found.kept} are kept of {found.limit} at most{found.evicted > 0
        ? `; ${found.evicted} were forgotten before their time, because there were as many as allowed`
        : ''}.
    </p>
  {/if}
  {#if found.refused_cookies > 0}
    <p class="mt-2 text-secondary">
      {found.refused_cookies}
      {found.refused_cookies === 1 ? 'cookie' : 'cookies'} of the service's name {found.refused_cookies === 1 ? 'was' : 'were'} taken for none: forged, over, or another
      pool's.
    </p>
  {/if}
{/if}
