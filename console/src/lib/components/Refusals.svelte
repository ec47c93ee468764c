<script lang="ts">
  import { useAnswers } from '../api/useAnswer'
  import Alert from './Alert.svelte'
  import DataTable from './DataTable.svelte'
  import Prose from './Prose.svelte'
  import { refusals, words } from '../api/call'
  import type { Refusals } from '../api/types'
  import { ago } from '../format/format'
  import { live } from '../live/live.svelte'

  // Whom a frontend refused since the node started, and why.
  let { frontend }: { frontend: string } = $props()

  let found = $state.raw<Refusals | null>(null)
  let trouble = $state('')
  let turn = $state(0)

  $effect(() => {
    void turn
    const of = frontend
    return useAnswers(
      refusals(of),
      (answer) => {
        ;[found, trouble] = [answer, '']
      },
      (error) => (trouble = words(error)),
      () => (turn += 1),
    )
  })

  const now = $derived(live.status?.at ?? new Date().toISOString())
  const number = (count: number) => count.toLocaleString('en')
</script>

{#if trouble}<Alert class="mb-3">{trouble}</Alert>{/if}
{#if found && found.reasons.length > 0}
  <section class="mb-4 rounded-box border border-base-300 p-3" aria-labelledby="refusals-title" data-testid="refusals">
    <h3 id="refusals-title" class="mb-1 font-semibold">Refused since this node started</h3>
    <DataTable columns={['Why', { name: 'Times', right: true }, 'Clients, most often first']} class="">
      {#each found.reasons as reason (reason.reason)}
        <tr>
          <td><Prose text={reason.says} /></td>
          <td class="text-right">{number(reason.count)}</td>
          <td>
            {#each reason.networks as network (network.network)}
              <span class="mr-3 inline-block"
                ><code>{network.network}</code>
                <span class="text-secondary">{number(network.count)}{network.over > 0 ? ' at most' : ''}, {ago(network.last, now)} ago</span></span
              >
            {/each}
          </td>
        </tr>
      {/each}
    </DataTable>
  </section>
{/if}
