<script lang="ts">
  import LogIn from './lib/components/LogIn.svelte'
  import Overview from './lib/components/Overview.svelte'
  import { live } from './lib/live/live.svelte'

  void live.start()
</script>

{#if live.access === 'no'}
  <LogIn />
{:else if live.status}
  <Overview status={live.status} />
{:else}
  <p class="p-8" role="status">
    {live.lostSince ? 'The service can’t be reached. Is merismosd running? Trying again …' : 'Asking the service …'}
  </p>
{/if}
