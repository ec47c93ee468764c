<script lang="ts">
  import type { Snippet } from 'svelte'

  // A part of a page, on paper of its own.
  let { class: more = '', label, labelledby, children }: { class?: string; label?: string; labelledby?: string; children: Snippet } = $props()
</script>

{#if label || labelledby}
  <section class={['rounded-box border border-base-300 bg-base-100 p-3', more]} aria-label={label} aria-labelledby={labelledby}>{@render children()}</section>
{:else}
  <div class={['rounded-box border border-base-300 bg-base-100 p-3', more]}>{@render children()}</div>
{/if}
