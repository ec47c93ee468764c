<script lang="ts">
  import type { Change } from '../api/types'

  let { changes }: { changes: Change[] } = $props()

  const SHOWN = 100
  const sign = (change: Change) => (change.renamed ? '~' : change.old === null ? '+' : change.new === null ? '−' : '~')
</script>

<ul class="space-y-0.5" data-testid="changes">
  {#each changes.slice(0, SHOWN) as change (change.path + change.old)}
    <li class="flex gap-2">
      <span class="w-3 shrink-0 text-center font-semibold" class:text-success={change.old === null} class:text-error={change.new === null} aria-hidden="true"
        >{sign(change)}</span
      >
      <span class="min-w-0 break-words">{change.description}</span>
    </li>
  {/each}
  {#if changes.length > SHOWN}<li class="text-secondary">and {changes.length - SHOWN} more</li>{/if}
</ul>
