<script lang="ts">
  import { drafts, logOut } from '../api/call'
  import type { Draft, Status } from '../api/types'
  import { desk } from '../desk/desk.svelte'
  import { unsaved } from '../desk/unsaved.svelte'
  import { ago, clock, zone } from '../format/format'
  import { live } from '../live/live.svelte'
  import { route } from '../../router'
  import { announcement, fresh } from '../desk/announce.svelte'
  import Dialog from './Dialog.svelte'
  import Legend from './Legend.svelte'

  let { status }: { status: Status } = $props()

  const PAGES = [
    ['/', 'Overview'],
    ['/frontends', 'Frontends'],
    ['/pools', 'Pools'],
    ['/checks', 'Checks'],
    ['/hosts', 'Hosts'],
    ['/ranges', 'Addresses'],
    ['/rules', 'Rules'],
    ['/certificates', 'Certificates'],
    ['/notifications', 'Notifications'],
    ['/maintenance', 'Maintenance'],
    ['/changes', 'Changes'],
    ['/events', 'Events'],
    ['/access', 'Access'],
  ] as const

  let known = $state<Draft[]>([])
  $effect(() => {
    void desk.made
    void live.changes
    drafts().then(
      (found) => {
        known = found.drafts
        // A draft that was deployed or thrown away elsewhere can't be worked in any more.
        if (desk.draft && !known.some((it) => it.name === desk.draft)) desk.choose(null)
      },
      () => (known = []),
    )
  })

  const isHere = (path: string) => (path === '/' ? route.pathname === '/' : route.pathname.startsWith(path))

  let before: string[] = []
  let wasLost = false
  $effect(() => {
    const now = status.troubles
    const isLost = live.lostSince !== null
    const [news, gone] = [fresh(before, now), before.length > 0 && now.length === 0]
    if (isLost && !wasLost) announcement.say('The connection to the service is lost.')
    else if (!isLost && wasLost) announcement.say('The service answers again.')
    else if (news.length > 0) announcement.say(news.join('. '))
    else if (gone) announcement.say('All is well.')
    before = now
    wasLost = isLost
  })

  let legend = $state(false)
  const works = $derived(Object.entries(unsaved.works))
  let asking = $state(false)

  async function leave() {
    asking = false
    unsaved.forgetAll()
    await logOut()
    // The page is loaded anew, so that the next user of this tab sees nothing of this session.
    location.assign('/')
  }
</script>

<header class="rounded-box bg-neutral px-3 py-2 text-neutral-content">
  <div class="flex flex-wrap items-center gap-x-3 gap-y-1">
    <div class="flex items-center gap-2">
      <img src="/mark.svg" alt="" class="h-6 w-6" />
      <h1 class="text-base font-semibold">Merismos</h1>
    </div>
    <nav class="flex flex-wrap" aria-label="Pages">
      {#each PAGES as [path, name] (path)}
        <a
          href={path}
          class={`rounded-field px-1 py-1 ${isHere(path) ? 'bg-neutral-content font-semibold text-neutral' : 'hover:bg-neutral-content/15'}`}
          aria-current={isHere(path) ? 'page' : undefined}>{name}</a
        >
      {/each}
    </nav>
    <label class="ml-auto flex items-center gap-2">
      <span>Apply to</span>
      <select
        class="select select-xs w-40 border-neutral-content/40 bg-neutral text-neutral-content"
        value={desk.draft ?? ''}
        onchange={(event) => desk.choose(event.currentTarget.value || null)}
        data-testid="where"
      >
        <option value="">running revision</option>
        {#each known as it (it.name)}<option value={it.name}>draft {it.name}</option>{/each}
      </select>
    </label>
    <button
      class="btn btn-xs border-neutral-content/40 bg-transparent text-neutral-content shadow-none"
      onclick={() => (works.length > 0 ? (asking = true) : void leave())}>Log out</button
    >
  </div>
  <div class="mt-1 flex flex-wrap gap-x-4 text-neutral-content/80">
    <span>
      {#if status.revision.number === 0}
        nothing was applied yet
      {:else}
        revision {status.revision.number} by {status.revision.author},
        {ago(status.revision.at, status.at)} ago{status.revision.note ? `: ${status.revision.note}` : ''}
      {/if}
    </span>
    {#if works.length > 0}
      <span data-testid="unsaved">
        ◆ typed and not made yet:
        {#each works as [key, work], index (key)}{index > 0 ? ', ' : ''}<a class="underline" href={work.href}>{work.title}</a>
          <button class="min-h-6 min-w-6" aria-label={`Forget what was typed for ${work.title}`} onclick={() => unsaved.keep(key, '', null)}>✕</button>{/each}
      </span>
    {/if}
    <span class="ml-auto"
      ><a class="underline" href="/nodes">node {status.node.name}{status.node.nodes > 1 ? `, 1 of ${status.node.nodes}` : ''}</a> · up {ago(
        status.node.started,
        status.at,
      )} · {status.node.workers} workers · {clock(status.at)}
      {zone} · <button class="min-h-6 underline" onclick={() => (legend = true)}>Signs</button></span
    >
  </div>
</header>

<section aria-label="State of the service" id="verdict">
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

{#if legend}<Legend onclose={() => (legend = false)} />{/if}
{#if asking}
  <Dialog title="Log out?" onclose={() => (asking = false)}>
    <p class="mb-3">What you typed for {works.map(([, work]) => work.title).join(', ')} is not made yet, and is lost.</p>
    <div class="flex gap-2">
      <button class="btn btn-error btn-sm" onclick={leave}>Log out, and lose it</button>
      <button class="btn btn-sm" onclick={() => (asking = false)}>Stay</button>
    </div>
  </Dialog>
{/if}
