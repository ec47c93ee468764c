<script lang="ts">
  let { offset = $bindable(), limit, total }: { offset: number; limit: number; total: number } = $props()
</script>

{#if total > limit}
  <div class="mt-2 flex items-center gap-2">
    <button class="btn btn-xs" disabled={offset === 0} onclick={() => (offset = Math.max(0, offset - limit))}>‹ before</button>
    <span>{offset + 1} to {Math.min(offset + limit, total)} of {total}</span>
    <button class="btn btn-xs" disabled={offset + limit >= total} onclick={() => (offset += limit)}>next ›</button>
  </div>
{/if}
