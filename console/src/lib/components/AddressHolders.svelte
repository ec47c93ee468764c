<script lang="ts">
  import { useAnswers } from '../api/useAnswer'
  import Alert from './Alert.svelte'
  import Dialog from './Dialog.svelte'
  import { address as askOne, addresses as askAll, orderAddress, words } from '../api/call'
  import type { AddressDetail, AddressNode, AddressOrderRequest, AddressStatus } from '../api/types'
  import { ago } from '../format/format'
  import { live } from '../live/live.svelte'

  // Who holds the addresses that move between nodes: all of them, or one with the advertisements of this node.
  let { only }: { only?: string } = $props()

  /** The highest priority that there is: the bars are as long as priorities are high. */
  const MOST = 254
  /** How many advertisements are shown. */
  const SHOWN = 12

  let all = $state.raw<AddressStatus[] | null>(null)
  let detail = $state.raw<AddressDetail | null>(null)
  let trouble = $state('')
  let turn = $state(0)

  $effect(() => {
    void turn
    void live.changes
    return useAnswers<AddressStatus[]>(
      only === undefined
        ? askAll().then((answer) => answer.addresses)
        : askOne(only).then((answer) => {
            detail = answer
            return [answer.address]
          }),
      (answer) => {
        ;[all, trouble] = [answer, '']
      },
      (error) => (trouble = words(error)),
      () => (turn += 1),
    )
  })

  const now = $derived(live.status?.at ?? new Date().toISOString())
  const width = (priority: number) => `${(priority / MOST) * 100}%`
  function stands(it: AddressNode): { mark: string; colour: string; says: string } {
    if (!it.is_alive) return { mark: '✕', colour: 'text-error', says: 'gone' }
    if (it.stance === 'active') return { mark: '●', colour: 'text-success', says: 'holds it' }
    if (it.stance === 'backup') return { mark: '○', colour: '', says: it.is_drained ? 'is drained' : 'stands by' }
    if (it.stance === 'aside') return { mark: '✕', colour: 'text-error', says: 'takes no part' }
    return { mark: '–', colour: 'text-secondary', says: 'is not heard' }
  }

  /** The order that is about to be given. */
  let asked = $state<{ of: AddressStatus; order: AddressOrderRequest['order']; to?: string } | null>(null)
  let reason = $state('')
  let refused = $state('')
  function ask(of: AddressStatus, order: AddressOrderRequest['order'], to?: string) {
    ;[asked, reason, refused] = [{ of, order, ...(to === undefined ? {} : { to }) }, '', '']
  }
  async function give(anyway: boolean) {
    if (!asked) return
    const { of, order, to } = asked
    try {
      await orderAddress(of.name, { order, reason, anyway, ...(to === undefined ? {} : { to }) })
      asked = null
      turn += 1
    } catch (error) {
      refused = words(error)
    }
  }
  const title = $derived.by(() => {
    if (!asked) return ''
    if (asked.order === 'move') return `Move ${asked.of.name} to ${asked.to}?`
    return asked.order === 'hold' ? `Hold ${asked.of.name} where it is?` : `End the order for ${asked.of.name}?`
  })
</script>

{#if trouble}<Alert class="mb-3">{trouble}</Alert>{/if}
{#each all ?? [] as it (it.name)}
  <section class="mb-4" aria-label={`Who holds ${it.name}`} data-testid="address" data-address={it.name}>
    <div class="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t border-base-300 pt-2">
      <h3 class="font-semibold">
        {#if only === undefined}<a class="link" href={`/addresses/${it.name}`}>{it.name}</a>{:else}Who holds it{/if}
      </h3>
      <span>
        {#if it.holders.length === 1}<span class="text-success">●</span> held by {it.holders[0]}
        {:else if it.holders.length === 0}<span class="text-error">✕ no node holds it</span>
        {:else}<span class="text-error">✕ {it.holders.join(' and ')} hold it at once</span>{/if}
      </span>
      <span class="text-secondary">
        {it.addresses.join(', ')} on {it.interface}, virtual router {it.router_id}, an advertisement every {it.interval_ms} ms
      </span>
      <span class="ml-auto flex gap-2">
        {#if it.order}<button class="btn btn-xs" onclick={() => ask(it, 'return')}>End the order …</button>
        {:else}<button class="btn btn-xs" onclick={() => ask(it, 'hold')}>Hold it here …</button>{/if}
      </span>
    </div>
    {#if it.order}
      <p class="text-warning">
        ▲ {it.order.to ? `moved to ${it.order.to}` : 'held where it is'} by {it.order.who}, {ago(it.order.at, now)} ago{it.order.reason
          ? `: ${it.order.reason}`
          : ''}. It stays so until the order is ended.
      </p>
    {/if}
    <table class="mt-1 w-full">
      <thead class="sr-only">
        <tr><th>node</th><th>stands</th><th>since</th><th>worth</th><th>what can be done</th></tr>
      </thead>
      <tbody>
        {#each it.nodes as node (node.node)}
          {@const says = stands(node)}
          <tr data-testid="address-node" data-node={node.node}>
            <td class="w-44 py-0.5 pr-3"
              >{node.node}
              {#if node.is_here}<span class="text-secondary">(this one)</span>{/if}</td
            >
            <td class="w-36 pr-3"><span class={says.colour}>{says.mark}</span> {says.says}</td>
            <td class="w-32 pr-3 text-secondary">{node.since ? `for ${ago(node.since, now)}` : ''}</td>
            <td class="pr-3">
              <span class="relative block h-2 bg-base-200" aria-hidden="true">
                <span class="absolute inset-y-0 left-0 rounded-sm bg-primary" style={`width: ${width(node.priority ?? 0)}`}></span>
                <span class="absolute -inset-y-0.5 w-0.5 bg-base-content" style={`left: ${width(node.listed)}`}></span>
              </span>
            </td>
            <td class="w-64 pr-3 whitespace-nowrap">
              worth {node.priority ?? '–'} <span class="text-secondary">of {node.listed} in the configuration</span>
            </td>
            <td class="w-36 text-right whitespace-nowrap">
              {#if node.stance !== 'active'}<button class="btn btn-xs" onclick={() => ask(it, 'move', node.node)}>Move it here …</button>{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
    <ul>
      {#each it.nodes as node (node.node)}
        {#each node.troubles as says (says)}<li class="text-error">✕ {node.node}: {says}</li>{/each}
        {#if node.lost.length > 0}<li class="text-warning">▲ {node.node}: too few servers are eligible of {node.lost.join(', ')}, as seen from there</li>{/if}
      {/each}
    </ul>
  </section>
{:else}
  {#if all && only === undefined}<p class="mb-3 text-secondary">No addresses move between nodes.</p>{/if}
{/each}
{#if detail && only !== undefined}
  {@const counts = detail.counts}
  <section class="mb-4" aria-label="Advertisements">
    <h3 class="mb-1 font-semibold">Advertisements that this node sent and heard</h3>
    {#if counts}
      <p class="mb-1 text-secondary">
        {counts.sent.toLocaleString('en')} sent, {counts.received.toLocaleString('en')} heard; taken {counts.taken} times.
        {#if counts.second_holder + counts.other_addresses + counts.other_interval + counts.from_afar + counts.wrong + counts.unsent > 0}
          <span class="text-warning">
            ▲ {counts.second_holder} heard while it was held here, {counts.other_addresses} with other addresses, {counts.other_interval} with another interval,
            {counts.from_afar} from behind a router, {counts.wrong} wrong, {counts.unsent} not sent.
          </span>
        {/if}
      </p>
      <table class="w-full">
        <thead class="text-left text-secondary"><tr><th>when</th><th>way</th><th>from</th><th>priority</th><th>addresses</th><th>what is wrong</th></tr></thead>
        <tbody>
          {#each detail.advertisements.slice(-SHOWN).reverse() as seen (seen.number)}
            <tr>
              <td>{seen.at.slice(11, 23)}</td>
              <td>{seen.is_own ? '→ sent' : '← heard'}</td>
              <td>{seen.from}</td>
              <td>{seen.priority === 0 ? '0: leaves it' : seen.priority}</td>
              <td>{seen.addresses.join(', ')}</td>
              <td class="text-warning">{seen.wrong ? `▲ ${seen.wrong}` : ''}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    {:else}<p class="text-secondary">This node takes no part in it.</p>{/if}
  </section>
{/if}

{#if asked}
  {@const isReturn = asked.order === 'return'}
  <Dialog {title} onclose={() => (asked = null)}>
    <p class="mb-3">
      {#if asked.order === 'move'}Clients reach {asked.to} from then on. Connections that are open to the other node end. It stays there until the order is ended.
      {:else if asked.order === 'hold'}No node takes it from one that can hold it, until the order is ended.
      {:else}The nodes choose again: who is worth most takes it, as the configuration says.{/if}
    </p>
    {#if !isReturn}
      <label class="block" for="order-reason">Why</label>
      <input id="order-reason" class="input input-sm mb-3 w-full" autocomplete="off" maxlength="500" bind:value={reason} />
    {/if}
    {#if refused}<Alert class="mb-3">{refused}</Alert>{/if}
    <div class="flex gap-2">
      <button class="btn btn-primary btn-sm" onclick={() => give(false)}>{asked.order === 'move' ? 'Move it' : isReturn ? 'End it' : 'Hold it'}</button>
      {#if refused && asked.order === 'move'}<button class="btn btn-error btn-sm" onclick={() => give(true)}>Move it anyway</button>{/if}
      <button class="btn btn-sm" onclick={() => (asked = null)}>Leave it</button>
    </div>
  </Dialog>
{/if}
