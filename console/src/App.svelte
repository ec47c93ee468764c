<script lang="ts">
  import { Router } from 'sv-router'
  import LogIn from './lib/components/LogIn.svelte'
  import TopBar from './lib/components/TopBar.svelte'
  import { announcement } from './lib/desk/announce.svelte'
  import { live } from './lib/live/live.svelte'
  import { titleOf } from './lib/desk/titles'
  import { route } from './router'

  void live.start()

  let content = $state<HTMLElement | null>(null)
  let shown = ''

  // After going to another page the work goes on there: so does the focus, unless something on the page has it already.
  $effect(() => {
    document.title = titleOf(route.pathname)
    const isOther = shown !== '' && shown !== route.pathname
    shown = route.pathname
    if (isOther && content && !content.contains(document.activeElement)) content.focus({ preventScroll: true })
  })

  function skip(event: MouseEvent) {
    event.preventDefault()
    content?.focus()
  }
</script>

<div class="sr-only" role="log" aria-label="What has happened" data-testid="announced">
  {#each announcement.said as it (it.id)}<p>{it.text}</p>{/each}
</div>
{#if live.status}
  <div class={`flex min-h-screen flex-col gap-3 bg-base-200 p-3 ${live.lostSince ? 'lost' : ''}`}>
    <a href="#content" class="btn btn-sm fixed top-1 left-1 z-30 -translate-y-20 focus:translate-y-0" onclick={skip}>Skip to the content</a>
    <TopBar status={live.status} />
    <main id="content" tabindex="-1" class="flex flex-col gap-3 outline-none" bind:this={content}><Router /></main>
  </div>
  {#if live.access === 'no'}<LogIn over />{/if}
{:else if live.access === 'no'}
  <LogIn />
{:else}
  <p class="p-8" role="status">
    {live.lostSince ? 'The service can’t be reached. Is merismosd running? Trying again …' : 'Asking the service …'}
  </p>
{/if}
