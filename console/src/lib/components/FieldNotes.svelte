<script lang="ts">
  import type { Mistake } from '../desk/fields'

  // What is wrong with a field, and what others did to it meanwhile.
  let { id, mistake = null, clash = '' }: { id: string; mistake?: Mistake | null; clash?: string } = $props()
</script>

<p {id} class="text-error" role={mistake ? 'alert' : undefined}>
  {#if mistake}✕ {mistake.found}. Right would be: {mistake.expected}{/if}
</p>
{#if clash}<p class="text-warning" data-testid="clash">▲ {clash}</p>{/if}
