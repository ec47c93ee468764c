<script lang="ts">
  import { drains, words } from '../lib/api/call'
  import type { DrainState } from '../lib/api/types'
  import { useAnswer } from '../lib/api/useAnswer'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import DataTable from '../lib/components/DataTable.svelte'
  import DutyDialog from '../lib/components/DutyDialog.svelte'
  import RollList from '../lib/components/RollList.svelte'
  import WindowList from '../lib/components/WindowList.svelte'
  import { drainWords } from '../lib/format/drain'
  import { ago, moment } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'

  let out = $state.raw<DrainState[] | null>(null)
  let trouble = $state('')
  let duty = $state<string | null>(null)

  $effect(() => live.look(null))
  // Orders are events; how far a drain is has to be asked for.
  const isMoving = $derived((out ?? []).some((it) => !it.draining.safe))
  $effect(() => {
    void live.changes
    void live.orders
    if (isMoving) void live.status?.at
    return useAnswer(
      drains(),
      (answer) => {
        ;[out, trouble] = [answer.servers, '']
      },
      (error) => {
        trouble = words(error)
      },
    )
  })

  const now = $derived(live.status?.at ?? new Date().toISOString())
  const isOverdue = (it: DrainState) => Boolean(it.order.until && it.order.until < now)
</script>

<Card label="Out of service">
  <div class="mb-2 flex flex-wrap items-center gap-x-4">
    <h2 class="text-base font-semibold">Out of service</h2>
    <p class="text-secondary">Servers that operators, windows and rolls took out. Nothing else brings them back.</p>
  </div>
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if out && out.length === 0}
    <p class="py-2 text-center text-secondary">Every server is in service.</p>
  {:else if out}
    <div class="overflow-x-auto">
      <DataTable columns={['server', 'duty', 'since', 'by', 'reason', 'open', 'expected back', { name: 'what can be done', spoken: true }]}>
        {#each out as it (it.server)}
          <tr data-out={it.server}>
            <th scope="row" class="py-1 text-left font-semibold"><a class="link" href={`/pools/${it.server.split('/')[0]}`}>{it.server}</a></th>
            <td class="text-warning">{it.order.duty === 'withdrawn' ? '■ withdrawn' : it.draining.over ? '▽ drained' : '▼ draining'}</td>
            <td class="whitespace-nowrap">{ago(it.order.at, now)}</td>
            <td>{it.order.who}</td>
            <td>{it.order.reason}</td>
            <td class={it.draining.safe ? 'text-success' : ''}>{it.draining.safe ? '✓ can be worked on' : drainWords(it.draining)}</td>
            <td class={isOverdue(it) ? 'text-error' : ''}>{it.order.until ? `${isOverdue(it) ? '✕ ' : ''}${moment(it.order.until)}` : ''}</td>
            <td class="text-right"><button class="btn btn-xs" aria-label={`Duty of ${it.server}`} onclick={() => (duty = it.server)}>Duty …</button></td>
          </tr>
        {/each}
      </DataTable>
    </div>
  {/if}
</Card>
<WindowList />
<RollList />

{#if duty}<DutyDialog servers={[duty]} onclose={() => (duty = null)} />{/if}
