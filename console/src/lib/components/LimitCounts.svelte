<script lang="ts">
  import { useAnswers } from '../api/useAnswer'
  import Alert from './Alert.svelte'
  import DataTable from './DataTable.svelte'
  import { limits, words } from '../api/call'
  import type { LimitView } from '../api/types'
  import { ago } from '../format/format'
  import { live } from '../live/live.svelte'

  // What limits let pass and held off, all of them or one with the clients that it held off most.
  let { limit }: { limit?: string } = $props()

  const right = (name: string) => ({ name, right: true })
  const COLUMNS = ['Limit', right('Passed'), right('Delayed'), right('Refused'), right('Observed')]

  let all = $state.raw<LimitView[] | null>(null)
  let trouble = $state('')
  let turn = $state(0)

  $effect(() => {
    void turn
    void live.changes
    return useAnswers(
      limits(),
      (answer) => {
        ;[all, trouble] = [answer.limits, '']
      },
      (error) => (trouble = words(error)),
      () => (turn += 1),
    )
  })

  const now = $derived(live.status?.at ?? new Date().toISOString())
  const shown = $derived((all ?? []).filter((it) => limit === undefined || it.name === limit))
  const number = (count: number) => count.toLocaleString('en')
</script>

{#if trouble}<Alert class="mb-3">{trouble}</Alert>{/if}
{#if shown.length > 0}
  <section class="mb-4" aria-label="What limits did" data-testid="limit-counts">
    <h3 class="mb-1 font-semibold">Since this node started</h3>
    <DataTable columns={COLUMNS} class="">
      {#each shown as it (it.name)}
        <tr>
          <td><a class="link" href={`/limits/${it.name}`}>{it.name}</a></td>
          <td class="text-right">{number(it.passed)}</td>
          <td class="text-right">{number(it.delayed)}</td>
          <td class="text-right" class:text-warning={it.refused > 0}>{number(it.refused)}</td>
          <td class="text-right">{number(it.observed)}</td>
        </tr>
      {/each}
    </DataTable>
    {#each shown.filter((it) => it.shared > 0) as it (it.name)}
      <p class="mt-1 text-warning">
        ◆ {it.name}: {number(it.shared)} were counted together with others, for more clients came than are counted by themselves (<code>clients</code>).
      </p>
    {/each}
    {#if limit !== undefined}
      {#each shown as it (it.name)}
        <h3 class="mt-3 mb-1 font-semibold">Held off most</h3>
        {#if it.held_off.length === 0}
          <p class="text-secondary">No client asked for more than it may.</p>
        {:else}
          <DataTable columns={['Clients', { name: 'Times', right: true }, 'Last']} class="">
            {#each it.held_off as held (held.network)}
              <tr>
                <td><code>{held.network}</code></td>
                <td class="text-right">{number(held.count)}{held.over > 0 ? ' at most' : ''}</td>
                <td>{ago(held.last, now)} ago</td>
              </tr>
            {/each}
          </DataTable>
        {/if}
      {/each}
    {/if}
  </section>
{/if}
