<script lang="ts">
  import { percent } from '../format/format'

  // Where more than weights decides, no share is expected of a server that gets work.
  let { expected, goesBy, observed, minute }: { expected: number; goesBy: string | null; observed: number | null; minute: number | null } = $props()
  const sure = $derived(goesBy === null || expected === 0)
</script>

<!-- A bar for what was observed, a tick for what is expected: off is seen at a glance. -->
<div class="flex items-center gap-2">
  <div class="relative h-3 w-24 shrink-0 bg-base-300" aria-hidden="true">
    <div class="h-full bg-primary/60" style={`width: ${(observed ?? 0) * 100}%`}></div>
    {#if sure}<div class="absolute -top-0.5 h-4 w-0.5 bg-base-content" style={`left: calc(${expected * 100}% - 1px)`}></div>{/if}
  </div>
  <span class="whitespace-nowrap"
    ><span title={sure ? undefined : `distributes by ${goesBy}`}>{sure ? percent(expected) : '–'}</span> <span class="text-secondary">·</span>
    {percent(observed)} <span class="text-secondary">· {percent(minute)}</span></span
  >
</div>
