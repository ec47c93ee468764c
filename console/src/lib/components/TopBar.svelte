<script lang="ts">
  import { logOut } from '../api/call'
  import type { Status } from '../api/types'
  import { ago, clock } from '../format/format'
  import { live } from '../live/live.svelte'

  let { status }: { status: Status } = $props()

  async function leave() {
    await logOut()
    await live.start()
  }
</script>

<header class="rounded-box bg-neutral px-3 py-2 text-neutral-content">
  <div class="flex flex-wrap items-center gap-x-5 gap-y-1">
    <div class="flex items-center gap-2">
      <img src="/mark.svg" alt="" class="h-6 w-6" />
      <h1 class="text-base font-semibold">Merismos</h1>
    </div>
    <span>
      {#if status.revision.number === 0}
        nothing was applied yet
      {:else}
        revision {status.revision.number} by {status.revision.author},
        {ago(status.revision.at, status.at)} ago{status.revision.note ? `: ${status.revision.note}` : ''}
      {/if}
    </span>
    <span class="ml-auto">up {ago(status.node.started, status.at)} · {status.node.workers} workers · {clock(status.at)}</span>
    <button class="btn btn-xs border-neutral-content/40 bg-transparent text-neutral-content shadow-none" onclick={leave}>Log out</button>
  </div>
</header>

<section aria-live="polite" aria-label="How things are" id="verdict">
  {#if live.lostSince}
    <p class="rounded-box border border-error bg-base-100 px-3 py-2 text-error">
      ✕ The connection to the service is lost since {clock(live.lostSince.toISOString())}. What you see is from
      {clock(status.at)}. Trying again …
    </p>
  {:else if status.troubles.length === 0}
    <p class="rounded-box border border-success bg-base-100 px-3 py-2 text-success">● All is well.</p>
  {:else}
    <ul class="max-h-28 overflow-auto rounded-box border border-error bg-base-100 px-3 py-2 text-error">
      {#each status.troubles as trouble (trouble)}
        <li>✕ {trouble}</li>
      {/each}
    </ul>
  {/if}
</section>
