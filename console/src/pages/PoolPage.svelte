<script lang="ts">
  import { thing as ask, things, words } from '../lib/api/call'
  import type { Edit, ServerStatus, Things, ThingView } from '../lib/api/types'
  import AddServers from '../lib/components/AddServers.svelte'
  import Dialog from '../lib/components/Dialog.svelte'
  import DutyDialog from '../lib/components/DutyDialog.svelte'
  import GoLive from '../lib/components/GoLive.svelte'
  import Pager from '../lib/components/Pager.svelte'
  import Path from '../lib/components/Path.svelte'
  import ProbesDialog from '../lib/components/ProbesDialog.svelte'
  import Share from '../lib/components/Share.svelte'
  import ThingActions from '../lib/components/ThingActions.svelte'
  import ThingForm from '../lib/components/ThingForm.svelte'
  import { desk } from '../lib/desk/desk.svelte'
  import { length } from '../lib/format/format'
  import { dutySign, healthSign, lasting, standing } from '../lib/format/sign'
  import { live } from '../lib/live/live.svelte'
  import { navigate, route } from '../router'

  const LIMIT = 50

  const name = $derived(route.pathname.split('/')[2] ?? '')
  let pool = $state.raw<ThingView | null>(null)
  let servers = $state.raw<Things | null>(null)
  let lookups = $state.raw<ThingView[]>([])
  let trouble = $state('')
  let search = $state('')
  let offset = $state(0)
  let part = $state<'servers' | 'add' | 'lookups' | 'settings'>('servers')
  let duty = $state<ServerStatus | null>(null)
  let probed = $state<string | null>(null)
  let opened = $state<ThingView | null>(null)
  let lookup = $state<ThingView | 'new' | null>(null)
  /** Weights as they are typed, by the server's path. */
  let weights = $state<Record<string, string>>({})

  $effect(() => {
    live.look(name)
    return () => live.look(null)
  })

  $effect(() => {
    void desk.made
    void live.changes
    const [at, draft] = [name, desk.draft]
    let current = true
    const failed = (error: unknown) => {
      if (current) trouble = words(error)
    }
    ask(`pools.${at}`, draft).then((found) => {
      if (current) [pool, trouble] = [found, '']
    }, (error) => {
      if (current) pool = null
      failed(error)
    })
    things({ kind: 'server', inside: at, search, offset, limit: LIMIT, draft }).then((found) => {
      if (current) servers = found
    }, failed)
    things({ kind: 'lookup', inside: at, limit: 100, draft }).then((found) => {
      if (current) lookups = found.things
    }, failed)
    return () => (current = false)
  })

  const status = $derived(live.status?.pools.find((it) => it.name === name))
  const now = $derived(Object.fromEntries((status?.servers ?? []).map((it) => [it.server, it])))
  /** Servers that no one wrote down: a lookup found them. */
  const foundOnes = $derived((status?.servers ?? []).filter((it) => it.found_by !== null))
  const own = (server: ThingView) => Number(server.keys.weight ?? 1)
  const typed = (server: ThingView) => {
    const text = weights[server.path]
    return text !== undefined && /^\d+$/.test(text.trim()) ? Number(text.trim()) : own(server)
  }
  const edits = $derived<Edit[]>(
    (servers?.things ?? [])
      .filter((server) => typed(server) !== own(server))
      .map((server) => ({ do: 'change', thing: server.path, keys: { weight: typed(server) } })),
  )
  /** The share by weight among the servers of the same tier, when all of them work. */
  const share = (server: ThingView) => {
    const tier = Number(server.keys.tier ?? 0)
    const all = (servers?.things ?? []).filter((it) => Number(it.keys.tier ?? 0) === tier).reduce((sum, it) => sum + typed(it), 0)
    return all === 0 ? 0 : typed(server) / all
  }
  const common = (a: number, b: number): number => (b === 0 ? a : common(b, a % b))
  /** A share as typed, to a tenth of a percent; the others keep their proportions, and all weights are as small as they can be. */
  function setShare(server: ThingView, text: string) {
    if (text.trim() === '') return
    const wanted = Number(text.replace(',', '.').replace('%', '').trim()) / 100
    if (!(wanted >= 0 && wanted <= 1)) return
    const tier = Number(server.keys.tier ?? 0)
    const peers = (servers?.things ?? []).filter((it) => it !== server && Number(it.keys.tier ?? 0) === tier)
    const rest = peers.reduce((sum, it) => sum + typed(it), 0)
    const parts = peers.map((peer) => [peer.path, (1 - wanted) * (rest === 0 ? 1 / peers.length : typed(peer) / rest)] as const)
    const tenths = [[server.path, wanted] as const, ...parts].map(([path, part]) => [path, Math.round(part * 1000)] as const)
    const unit = tenths.reduce((unit, [, weight]) => common(unit, weight), 0) || 1
    weights = { ...weights, ...Object.fromEntries(tenths.map(([path, weight]) => [path, String(weight / unit)])) }
  }
  const whole = $derived(servers !== null && servers.total <= LIMIT)
  const go = (to: string) => void navigate(to as '/')
</script>

{#snippet liveCells(at: ServerStatus | undefined)}
  {#if at}
    {@const health = healthSign(at)}
    {@const order = dutySign(at)}
    <td class={`whitespace-nowrap pr-3 ${order.tone}`}>{order.glyph} {order.word}</td>
    <td class="pr-3">
      <span class={health.tone}>{health.glyph} {health.word}</span>
      {#if at.health.checked && live.status}<span class="text-secondary">{lasting(at, live.status)}</span>{/if}
      {#if at.reason_words && at.reason !== 'draining' && at.reason !== 'withdrawn'}<div class="text-secondary">{at.health.last_probe && at.health.last_probe.step !== 'done' ? at.health.last_probe.got : at.reason_words}</div>{/if}
      {#each standing(at, live.status?.at ?? '') as says (says)}<div class="text-secondary">{says}</div>{/each}
    </td>
    <td class="pr-3"><Share expected={at.expected} goesBy={status?.shares_go_by ?? null} observed={at.observed.ten_seconds.share} minute={at.observed.minute.share} /></td>
    <td class="whitespace-nowrap text-right">{#if at.health.checked}<button class="btn btn-xs" onclick={() => (probed = at.server)} aria-label={`Probes of ${at.server}`}>Probes …</button>{/if} <button class="btn btn-xs ml-1" onclick={() => (duty = at)} aria-label={`Duty of ${at.server}`}>Duty …</button></td>
  {:else}
    <td colspan="4" class="text-secondary">not live</td>
  {/if}
{/snippet}

<main class="rounded-box border border-base-300 bg-base-100 p-3">
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold"><a class="link link-hover text-secondary" href="/pools">Pools</a> / {name}</h2>
    {#if desk.draft}<span class="text-warning">◆ as in draft {desk.draft}</span>{/if}
    {#if status}
      <span>
        {#if status.eligible === 0}<span class="text-error">✕ none of {status.size} servers eligible</span>
        {:else}<span class="text-success">●</span> {status.eligible} of {status.size} servers eligible{/if}
      </span>
    {/if}
    {#if pool}
      <span>
        used by {#each pool.used_by as path, index (path)}{index > 0 ? ', ' : ''}<Path {path} />{:else}<span class="text-secondary">no frontend yet</span>{/each}
      </span>
      <div class="ml-auto"><ThingActions thing={pool} ongone={() => go('/pools')} onrenamed={(to) => go(`/pools/${to}`)} /></div>
    {/if}
  </div>
  {#if trouble}<p class="text-error" role="alert">✕ {trouble}</p>{/if}
  {#if pool}
    {#if status?.sends_to_all}<p class="mb-2 text-warning">! No server passes: work goes to all of them, as when_none says.</p>{/if}
    {#if status?.check}<p class="mb-2 text-secondary">check <a class="link link-hover" href={`/checks/${status.check.name}`}>{status.check.name}</a>: {status.check.asks}{#each status.more_checks as more (more)}; with it {more}{/each}.
        A failure is noticed after {length(status.check.timing.noticed.best_ms)} at best, {length(status.check.timing.noticed.average_ms)} on average, {length(status.check.timing.noticed.worst_ms)} at worst{#if status.check.at_stake.worst > 0}; until then, at this rate, {status.check.at_stake.average} {status.check.at_stake.average === 1 ? 'piece' : 'pieces'} of work on average and {status.check.at_stake.worst} at worst would meet it{/if}.
        Each server gets up to {status.check.probes_per_minute} probes a minute.</p>{/if}
    <div role="tablist" class="mb-3 flex flex-wrap gap-1 border-b border-base-300" aria-label="Parts of the pool">
      {#each [['servers', `Servers (${servers?.total ?? 0})`], ['add', 'Add servers'], ['lookups', `DNS names (${lookups.length})`], ['settings', 'Settings']] as [key, title] (key)}
        <button
          role="tab"
          aria-selected={part === key}
          class={`px-3 py-1 ${part === key ? 'border-b-2 border-primary font-semibold' : 'text-secondary'}`}
          onclick={() => (part = key as typeof part)}>{title}</button
        >
      {/each}
    </div>
    {#if part === 'servers'}
      {#if servers && (servers.total > LIMIT || search)}
        <input class="input input-sm mb-2 w-56" placeholder="search" aria-label="Search servers" bind:value={search} oninput={() => (offset = 0)} />
      {/if}
      {#if servers && servers.total === 0 && foundOnes.length === 0}
        <p class="py-4 text-secondary">
          No servers{search ? ' match' : ''}.
          {#if !search}Clients of this pool get <strong>503: no server is available</strong>.
            <button class="btn btn-primary btn-xs" onclick={() => (part = 'add')}>Add servers</button>{/if}
        </p>
      {:else if servers}
        <div class="relative overflow-x-auto">
          <table class="w-full">
            <thead class="text-left text-secondary">
              <tr>
                <th class="py-1 pr-3 font-normal" scope="col">server</th>
                <th class="pr-3 font-normal" scope="col">address</th>
                <th class="pr-3 font-normal" scope="col">weight</th>
                <th class="hidden pr-3 font-normal sm:table-cell" scope="col">share when all work</th>
                <th class="pr-3 font-normal" scope="col">duty</th>
                <th class="pr-3 font-normal" scope="col">health</th>
                <th class="font-normal" scope="col">share: expected, last 10 s, last minute</th>
                <th scope="col"><span class="sr-only">actions</span></th>
              </tr>
            </thead>
            <tbody>
              {#each servers.things as server (server.path)}
                <tr class="border-t border-base-300 align-baseline" data-server={server.name}>
                  <th scope="row" class="py-1 pr-3 text-left font-semibold">
                    <button class="link link-hover" onclick={() => (opened = server)}>{server.name.split('/')[1]}</button>
                  </th>
                  <td class="pr-3">{server.keys.address}{Number(server.keys.tier ?? 0) > 0 ? ` · tier ${server.keys.tier}` : ''}</td>
                  <td class="pr-3">
                    <input
                      class="input input-xs w-16 text-right"
                      inputmode="numeric"
                      aria-label={`Weight of ${server.name}`}
                      value={weights[server.path] ?? String(own(server))}
                      oninput={(event) => (weights = { ...weights, [server.path]: event.currentTarget.value })}
                    />
                  </td>
                  <td class="hidden pr-3 sm:table-cell">
                    {#if whole}
                      <input
                        class="input input-xs w-16 text-right"
                        aria-label={`Share of ${server.name} in percent`}
                        value={(share(server) * 100).toFixed(1)}
                        onchange={(event) => setShare(server, event.currentTarget.value)}
                      /> %
                    {:else}<span class="text-secondary">–</span>{/if}
                  </td>
                  {@render liveCells(now[server.name])}
                </tr>
              {/each}
              {#each foundOnes as at (at.server)}
                <tr class="border-t border-base-300 align-baseline" data-server={at.server}>
                  <th scope="row" class="py-1 pr-3 text-left font-semibold">{at.server.split('/')[1]}</th>
                  <td class="pr-3">{at.address}{at.tier > 0 ? ` · tier ${at.tier}` : ''}</td>
                  <td class="pr-3 text-right">{at.weight}</td>
                  <td class="hidden pr-3 text-secondary sm:table-cell">found by {at.found_by}</td>
                  {@render liveCells(at)}
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
        <Pager bind:offset limit={LIMIT} total={servers.total} />
        {#if edits.length > 0}
          <section class="mt-3 rounded-box border border-base-300 bg-base-200 p-3" aria-label="What these weights do">
            <div class="mb-2 flex items-baseline justify-between">
              <h3 class="font-semibold">What these weights do</h3>
              <button class="btn btn-ghost btn-xs" onclick={() => (weights = {})}>Forget them</button>
            </div>
            <GoLive {edits} basedOn={desk.draft ? undefined : live.status?.revision.number} onmade={() => (weights = {})} />
          </section>
        {/if}
      {/if}
    {:else if part === 'add'}
      <AddServers pool={name} onmade={() => (part = 'servers')} />
    {:else if part === 'lookups'}
      <ul class="mb-3">
        {#each lookups as it (it.path)}
          {@const at = status?.lookups.find((found) => `${name}/${found.lookup}` === it.name)}
          <li class="flex flex-wrap items-baseline gap-3 border-t border-base-300 py-1 first:border-0">
            <button class="link link-hover font-semibold" onclick={() => (lookup = it)}>{it.name.split('/')[1]}</button>
            <span>{it.keys.name} · {it.keys.records} records</span>
            {#if at?.trouble}<span class="text-error">✕ {at.trouble}</span>
            {:else if at}<span><span class="text-success">●</span> {at.found} servers found</span>{/if}
          </li>
        {:else}
          <li class="text-secondary">No DNS name gives this pool servers.</li>
        {/each}
      </ul>
      {#if lookup}
        {#key lookup}
          <section class="rounded-box border border-base-300 p-3" aria-label="DNS name">
            <div class="mb-2 flex justify-between">
              <h3 class="font-semibold">{lookup === 'new' ? 'New DNS name' : lookup.name}</h3>
              {#if lookup !== 'new'}<ThingActions thing={lookup} ongone={() => (lookup = null)} onrenamed={() => (lookup = null)} />{/if}
            </div>
            <ThingForm kind="lookup" around={`pools.${name}.lookups.`} thing={lookup === 'new' ? null : lookup} onmade={() => (lookup = null)} />
          </section>
        {/key}
      {:else}
        <button class="btn btn-sm" onclick={() => (lookup = 'new')}>New DNS name</button>
      {/if}
    {:else}
      <ThingForm kind="pool" thing={pool} basedOn={desk.draft ? undefined : live.status?.revision.number} onmade={() => {}} />
    {/if}
  {/if}
</main>

{#if duty}
  <DutyDialog server={duty} onclose={() => (duty = null)} />
{/if}
{#if probed}
  <ProbesDialog server={probed} onclose={() => (probed = null)} />
{/if}
{#if opened}
  <Dialog title={`Server ${opened.name}`} wide onclose={() => (opened = null)}>
    <div class="mb-3 flex justify-end"><ThingActions thing={opened} ongone={() => (opened = null)} onrenamed={() => (opened = null)} /></div>
    <ThingForm kind="server" thing={opened} basedOn={desk.draft ? undefined : live.status?.revision.number} onmade={() => (opened = null)} />
  </Dialog>
{/if}
