<script lang="ts">
  import { useAnswers } from '../lib/api/useAnswer'
  import AddressHolders from '../lib/components/AddressHolders.svelte'
  import AnnouncementParts from '../lib/components/AnnouncementParts.svelte'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import DataTable from '../lib/components/DataTable.svelte'
  import Dialog from '../lib/components/Dialog.svelte'
  import MachineParts from '../lib/components/MachineParts.svelte'
  import { nodes, orderNode, removeNode, words } from '../lib/api/call'
  import type { NodeView, Nodes } from '../lib/api/types'
  import { ago, length } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'

  /** From how far apart on clocks are worth a word. */
  const CLOCKS_APART_MS = 1000

  let known = $state.raw<Nodes | null>(null)
  let trouble = $state('')
  let turn = $state(0)
  let forgetting = $state<NodeView | null>(null)

  $effect(() => {
    live.look(null)
  })

  $effect(() => {
    void turn
    void live.changes
    return useAnswers(
      nodes(),
      (answer) => {
        ;[known, trouble] = [answer, '']
      },
      (error) => (trouble = words(error)),
      () => (turn += 1),
    )
  })

  const now = $derived(live.status?.at ?? new Date().toISOString())
  const isBehind = (node: NodeView) => node.is_alive && node.revision != null && known !== null && node.revision !== known.revision
  const clock = (node: NodeView) => (node.is_alive && Math.abs(node.clock_ahead_ms ?? 0) >= CLOCKS_APART_MS ? (node.clock_ahead_ms ?? 0) : 0)

  let draining = $state<NodeView | null>(null)
  let reason = $state('')
  let refused = $state('')
  async function order(node: NodeView, verb: 'drain' | 'return', anyway: boolean) {
    try {
      await orderNode(node.name, { order: verb, reason, anyway })
      draining = null
      turn += 1
    } catch (error) {
      if (draining) refused = words(error)
      else trouble = words(error)
    }
  }

  async function forget(node: NodeView) {
    forgetting = null
    try {
      await removeNode(node.id)
      turn += 1
    } catch (error) {
      trouble = words(error)
    }
  }
</script>

<Card>
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">Nodes</h2>
    <p class="text-secondary">
      Services that share one database. What is done at one holds on all within a second; each probes servers for itself. One leads: it does what one node has
      to do, windows, rolls, and messages to people.
    </p>
  </div>
  {#if trouble}<Alert class="mb-3">{trouble}</Alert>{/if}
  {#if known?.database_away}
    <Alert class="mb-3">The database does not answer: this is what was known when it did last. Each node goes on for itself.</Alert>
  {/if}
  {#if known}
    <DataTable
      columns={['node', 'state', 'runs', 'leads', 'holds', 'down as seen there', 'since', 'version', 'API', { name: 'what can be done', spoken: true }]}
    >
      {#each known.nodes as it (it.id)}
        <tr data-testid="node">
          <td class="py-1 pr-4">
            <span class="font-semibold">{it.name || it.id}</span>
            <span class="text-secondary">{it.id}</span>
            {#if it.is_here}<span class="text-secondary">(this one)</span>{/if}
          </td>
          <td class="pr-4">
            {#if it.is_alive}<span class="text-success">●</span> alive{:else}<span class="text-error">✕ gone for {length(it.seen_ms)}</span>{/if}
          </td>
          <td class="pr-4">
            {#if it.revision == null}–{:else if isBehind(it)}<span class="text-warning">▲ revision {it.revision}, not {known.revision}</span
              >{:else if it.revision === 0}nothing yet{:else}revision {it.revision}{/if}
          </td>
          <td class="pr-4">{it.leads ? '● leads' : ''}</td>
          <td class="pr-4">
            {#if it.is_drained}<span class="text-warning">▲ is drained</span>{/if}
            {it.holds.join(', ')}
          </td>
          <td class="pr-4">
            {#if it.down_in_all > 0}
              <span class="text-warning">✕ {it.down_in_all}</span>
              <span class="text-secondary">{it.down.slice(0, 3).join(', ')}{it.down_in_all > 3 ? ' …' : ''}</span>
            {/if}
          </td>
          <td class="pr-4">{it.started ? `${ago(it.started, now)} ago` : '–'}</td>
          <td class="pr-4">{it.version ?? '–'}</td>
          <td class="pr-4">{it.api ?? '–'}</td>
          <td class="text-right">
            {#if !it.is_alive}<button class="btn btn-xs" onclick={() => (forgetting = it)}>Forget it …</button>
            {:else if it.is_drained}<button class="btn btn-xs" onclick={() => order(it, 'return', false)}>Return it</button>
            {:else}<button class="btn btn-xs" onclick={() => ([draining, reason, refused] = [it, '', ''])}>Drain it …</button>{/if}
          </td>
        </tr>
      {/each}
    </DataTable>
    <ul class="mt-2">
      {#each known.nodes as it (it.id)}
        {#if it.trouble}<li class="text-error">✕ {it.name}: {it.trouble}</li>{/if}
        {#if clock(it) !== 0}
          <li class="text-warning">
            ▲ {it.name}: its clock is {length(Math.abs(clock(it)))}
            {clock(it) > 0 ? 'ahead of' : 'behind'} that of this node: see to its time service
          </li>
        {/if}
      {/each}
      {#each known.differences as difference (difference)}<li class="text-warning">▲ {difference}</li>{/each}
    </ul>
    {#if known.nodes.length === 1}
      <p class="mt-2 text-secondary">
        This node is alone. Another one is a service with the same <code>--database</code>, a <code>--node</code> name of its own, and a copy of the file
        <code>store-secret</code> in its state folder.
      </p>
    {/if}
  {/if}
</Card>

<Card>
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">Service addresses</h2>
    <p class="text-secondary">Addresses that one node at a time holds, and that move to another when it can't.</p>
    <a class="link ml-auto" href="/addresses">All of them, and new ones</a>
  </div>
  <AddressHolders />
</Card>

<Card>
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">Announced addresses</h2>
    <p class="text-secondary">Addresses that several nodes have at once and announce to routers.</p>
    <a class="link ml-auto" href="/announce">All of them, and new ones</a>
  </div>
  <AnnouncementParts />
</Card>

<Card>
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">This machine</h2>
    <p class="text-secondary">Whether the machine of the node that shows this page is enough for it.</p>
  </div>
  <MachineParts />
</Card>

{#if draining}
  {@const node = draining}
  <Dialog title={`Drain node ${node.name}?`} onclose={() => (draining = null)}>
    <p class="mb-3">Its addresses move to other nodes, and it takes none until it is returned. Connections that are open to it end when they move.</p>
    <label class="block" for="drain-reason">Why</label>
    <input id="drain-reason" class="input input-sm mb-3 w-full" autocomplete="off" maxlength="500" bind:value={reason} />
    {#if refused}<Alert class="mb-3">{refused}</Alert>{/if}
    <div class="flex gap-2">
      <button class="btn btn-primary btn-sm" onclick={() => order(node, 'drain', false)}>Drain it</button>
      {#if refused}<button class="btn btn-error btn-sm" onclick={() => order(node, 'drain', true)}>Drain it anyway</button>{/if}
      <button class="btn btn-sm" onclick={() => (draining = null)}>Leave it</button>
    </div>
  </Dialog>
{/if}
{#if forgetting}
  {@const node = forgetting}
  <Dialog title={`Forget node ${node.name || node.id}?`} onclose={() => (forgetting = null)}>
    <p class="mb-3">It is not a headline any more. Should it start again, it is there again.</p>
    <div class="flex gap-2">
      <button class="btn btn-error btn-sm" onclick={() => forget(node)}>Forget it</button>
      <button class="btn btn-sm" onclick={() => (forgetting = null)}>Keep it</button>
    </div>
  </Dialog>
{/if}
