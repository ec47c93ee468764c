<script lang="ts">
  import Alert from './Alert.svelte'
  import { resetTotals, words } from '../api/call'
  import type { ServerStatus, Status, Totals } from '../api/types'
  import { bytes, moment, shortName } from '../format/format'

  // The totals of a pool's servers: since the start, and since the last reset.
  let { servers, status }: { servers: ServerStatus[]; status: Status } = $props()

  let trouble = $state('')
  const reset = $derived(status.node.totals_reset)

  async function anew() {
    try {
      await resetTotals()
      trouble = ''
    } catch (error) {
      trouble = words(error)
    }
  }
</script>

{#snippet cells(it: Totals)}
  <td class="text-right">{it.taken}</td>
  <td class="text-right" class:text-warning={it.failed > 0}>{it.failed}</td>
  <td class="text-right" class:text-warning={it.retried > 0}>{it.retried}</td>
  <td class="text-right" class:text-warning={it.errors > 0}>{it.errors}</td>
  <td class="text-right">{bytes(it.bytes_to)}</td>
  <td class="text-right">{bytes(it.bytes_from)}</td>
{/snippet}

{#snippet heads()}
  <th class="pl-3 text-right font-normal" scope="col">taken</th>
  <th class="pl-3 text-right font-normal" scope="col">failed</th>
  <th class="pl-3 text-right font-normal" scope="col">retried</th>
  <th class="pl-3 text-right font-normal" scope="col">5xx</th>
  <th class="pl-3 text-right font-normal" scope="col">sent to it</th>
  <th class="pl-3 text-right font-normal" scope="col">got from it</th>
{/snippet}

<div class="relative overflow-x-auto" data-testid="totals">
  <table class="w-full max-w-3xl">
    <thead class="text-left text-secondary">
      <tr>
        <td></td>
        <th colspan="6" class="text-right font-normal" scope="colgroup">since the start, {moment(status.node.counted_since)}</th>
        {#if reset}<th colspan="6" class="text-right font-normal" scope="colgroup">since {moment(reset)}</th>{/if}
      </tr>
      <tr>
        <th class="font-normal" scope="col">server</th>
        {@render heads()}
        {#if reset}{@render heads()}{/if}
      </tr>
    </thead>
    <tbody>
      {#each servers as server (server.server)}
        <tr class="border-t border-base-300">
          <th scope="row" class="py-1 text-left font-semibold">{shortName(server.server)}</th>
          {@render cells(server.totals)}
          {#if reset && server.since_reset}{@render cells(server.since_reset)}{/if}
        </tr>
      {/each}
    </tbody>
  </table>
</div>
<button class="btn btn-sm mt-2" onclick={anew}>Count anew from now on</button>
<span class="text-secondary">for all pools; what was counted since the start stays beside it</span>
{#if trouble}<Alert>{trouble}</Alert>{/if}
