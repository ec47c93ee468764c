<script lang="ts">
  import DataTable from '../lib/components/DataTable.svelte'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import { findEvents, words } from '../lib/api/call'
  import { EVENT_KINDS, type Fact } from '../lib/api/types'
  import { moment } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'

  const LIMIT = 100
  /** How long typing has to rest before the service is asked. */
  const PAUSE_MS = 300

  // What is asked for stands in the address, so that it can be kept and sent to a colleague.
  const asked = new URLSearchParams(location.search)
  let kind = $state(asked.get('kind') ?? '')
  let object = $state(asked.get('object') ?? '')
  let by = $state(asked.get('by') ?? '')
  let since = $state(asked.get('since') ?? '')
  let until = $state(asked.get('until') ?? '')

  let found = $state.raw<Fact[]>([])
  let complete = $state(true)
  let more = $state(false)
  let busy = $state(false)
  let trouble = $state('')

  const wanted = $derived(Object.fromEntries(Object.entries({ kind, object, by, since, until }).filter(([, value]) => value !== '')))
  const several = $derived((live.status?.node.nodes ?? 1) > 1 || new Set(found.map((fact) => fact.node)).size > 1)
  const inUtc = (local: string | undefined) => (local ? new Date(local).toISOString() : '')

  async function ask(before?: number) {
    busy = true
    try {
      const { since, until, ...others } = wanted
      const page = await findEvents({
        ...others,
        ...(since ? { since: inUtc(since) } : {}),
        ...(until ? { until: inUtc(until) } : {}),
        ...(before ? { before: String(before) } : {}),
        limit: String(LIMIT),
      })
      found = before ? [...found, ...page.events] : page.events
      complete = page.complete
      more = page.events.length === LIMIT
      trouble = ''
    } catch (error) {
      trouble = words(error)
    }
    busy = false
  }

  $effect(() => {
    live.look(null)
    // What is new is asked for when something has happened, and otherwise not at all.
    void live.facts[0]?.id
    const search = new URLSearchParams(wanted).toString()
    history.replaceState(history.state, '', search ? `?${search}` : location.pathname)
    const timer = setTimeout(() => void ask(), PAUSE_MS)
    return () => clearTimeout(timer)
  })

  const field = 'input input-sm w-56'
</script>

<Card>
  <div class="mb-2 flex flex-wrap items-end gap-x-3 gap-y-2">
    <h2 class="mr-2 text-base font-semibold">Events</h2>
    <label class="flex flex-col">
      <span class="text-secondary">Kind</span>
      <select class="select select-sm w-32" bind:value={kind}>
        <option value="">all</option>
        {#each EVENT_KINDS as it (it)}<option value={it}>{it}</option>{/each}
      </select>
    </label>
    <label class="flex flex-col"
      ><span class="text-secondary">About</span><input class={field} placeholder="pool, server, frontend" bind:value={object} /></label
    >
    <label class="flex flex-col"><span class="text-secondary">By</span><input class={field} placeholder="whose token" bind:value={by} /></label>
    <label class="flex flex-col"><span class="text-secondary">From</span><input class={field} type="datetime-local" bind:value={since} /></label>
    <label class="flex flex-col"><span class="text-secondary">Until</span><input class={field} type="datetime-local" bind:value={until} /></label>
  </div>
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if !complete}<p class="text-warning">◆ The database does not answer: these are only the last events that the service remembers.</p>{/if}
  <DataTable columns={['when', ...(several ? ['node'] : []), 'kind', 'about', 'what']} testid="events">
    {#each found as fact (`${fact.id} ${fact.node}`)}
      <tr>
        <td class="whitespace-nowrap py-0.5 pr-3">{moment(fact.at)}</td>
        {#if several}<td class="pr-3">{fact.node}</td>{/if}
        <td class="pr-3">{fact.kind}</td>
        <td class="max-w-72 wrap-anywhere pr-3 font-semibold sm:min-w-40">{fact.subject}</td>
        <td class="wrap-anywhere">{fact.message}</td>
      </tr>
    {:else}
      <tr><td colspan="5" class="text-secondary">{busy ? 'Asking …' : 'Nothing of this kind.'}</td></tr>
    {/each}
  </DataTable>
  {#if more}
    <button class="btn btn-xs mt-2" disabled={busy} onclick={() => void ask(found.at(-1)?.id)}>Older ›</button>
  {/if}
</Card>
