<script lang="ts">
  import type { Snippet } from 'svelte'
  import type { Column } from './column'

  // A table of facts: names of columns, then a row a fact with a line above it. The rows are the caller's `<tr>` elements.
  let { columns, children, testid, class: extra = 'w-full' }: { columns: Column[]; children: Snippet; testid?: string; class?: string } = $props()

  const named = $derived(columns.map((column) => (typeof column === 'string' ? { name: column } : column)))
</script>

<table
  class={`[&_td]:pr-3 [&_th]:pr-3 [&_tr>:last-child]:pr-0 [&>tbody>tr]:border-t [&>tbody>tr]:border-base-300 [&>tbody>tr]:align-baseline ${extra}`}
  data-testid={testid}
>
  <thead class="text-secondary">
    <tr>
      {#each named as { name, right, spoken, hidden } (name)}
        <th scope="col" class={`py-0.5 font-normal ${right ? 'text-right' : 'text-left'} ${hidden ? 'hidden sm:table-cell' : ''}`}>
          {#if spoken}<span class="sr-only">{name}</span>{:else}{name}{/if}
        </th>
      {/each}
    </tr>
  </thead>
  <tbody>{@render children()}</tbody>
</table>
