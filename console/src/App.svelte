<script lang="ts">
  import { Router } from 'sv-router'
  import LogIn from './lib/components/LogIn.svelte'
  import TopBar from './lib/components/TopBar.svelte'
  import { live } from './lib/live/live.svelte'
  import { titleOf } from './lib/desk/titles'
  import { route } from './router'

  void live.start()

  $effect(() => {
    document.title = titleOf(route.pathname)
  })
</script>

{#if live.status}
  <div class={`flex min-h-screen flex-col gap-3 bg-base-200 p-3 ${live.lostSince ? 'lost' : ''}`}>
    <TopBar status={live.status} />
    <Router />
  </div>
  {#if live.access === 'no'}<LogIn over />{/if}
{:else if live.access === 'no'}
  <LogIn />
{:else}
  <p class="p-8" role="status">
    {live.lostSince ? 'The service can’t be reached. Is merismosd running? Trying again …' : 'Asking the service …'}
  </p>
{/if}
