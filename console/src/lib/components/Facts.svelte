<script lang="ts">
  import type { Fact } from '../api/types'
  import { clock } from '../format/format'

  let { facts }: { facts: Fact[] } = $props()

  const several = $derived(new Set(facts.map((fact) => fact.node)).size > 1)
</script>

<section class="flex max-h-80 flex-col rounded-box border border-base-300 bg-base-100 p-3 lg:max-h-none" aria-labelledby="facts-title">
  <h2 id="facts-title" class="mb-1 font-semibold">Events</h2>
  <!-- What scrolls has to be scrolled by keyboard too. -->
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <ol class="h-0 min-h-40 grow overflow-auto pr-1" data-testid="facts" tabindex="0" aria-labelledby="facts-title">
    {#each facts as fact (fact.id)}
      <li class="border-t border-base-300 py-1 first:border-0">
        <span class="text-secondary">{clock(fact.at)}{several && fact.node ? ` ${fact.node}` : ''}</span>
        <strong class="font-semibold">{fact.subject}</strong>
        <span class="break-words">{fact.message}</span>
      </li>
    {:else}
      <li class="text-secondary">Nothing yet.</li>
    {/each}
  </ol>
</section>
