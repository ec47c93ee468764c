<script lang="ts">
  import DataTable from '../lib/components/DataTable.svelte'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import { CallError, object as ask, objects, words } from '../lib/api/call'
  import type { Edit, ServerStatus, Objects, ObjectView } from '../lib/api/types'
  import AddServers from '../lib/components/AddServers.svelte'
  import Dialog from '../lib/components/Dialog.svelte'
  import Pins from '../lib/components/Pins.svelte'
  import DutyDialog from '../lib/components/DutyDialog.svelte'
  import GoLive from '../lib/components/GoLive.svelte'
  import Pager from '../lib/components/Pager.svelte'
  import Path from '../lib/components/Path.svelte'
  import ProbesDialog from '../lib/components/ProbesDialog.svelte'
  import Share from '../lib/components/Share.svelte'
  import Tabs from '../lib/components/Tabs.svelte'
  import Totals from '../lib/components/Totals.svelte'
  import ObjectActions from '../lib/components/ObjectActions.svelte'
  import ObjectForm from '../lib/components/ObjectForm.svelte'
  import FieldNotes from '../lib/components/FieldNotes.svelte'
  import { asked, askedNumber, tell } from '../lib/desk/address'
  import { desk } from '../lib/desk/desk.svelte'
  import { wholeNumber, type Mistake } from '../lib/desk/fields'
  import { unsaved } from '../lib/desk/unsaved.svelte'
  import { ago, clock, length, micros } from '../lib/format/format'
  import { dutySign, healthSign, lasting, standing, trustWords } from '../lib/format/sign'
  import { live } from '../lib/live/live.svelte'
  import { navigate, route } from '../router'

  const LIMIT = 50

  const name = $derived(route.pathname.split('/')[2] ?? '')
  let pool = $state.raw<ObjectView | null>(null)
  let servers = $state.raw<Objects | null>(null)
  let lookups = $state.raw<ObjectView[]>([])
  let trouble = $state('')
  let gone = $state(false)
  let search = $state(asked('search'))
  let offset = $state(askedNumber('from'))
  type Part = 'servers' | 'totals' | 'pins' | 'add' | 'lookups' | 'settings'
  const PARTS: Part[] = ['servers', 'totals', 'pins', 'add', 'lookups', 'settings']
  let part = $state<Part>(PARTS.find((it) => it === asked('tab')) ?? 'servers')
  /** Which servers, by how they are; the service lists them all. */
  let inState = $state(asked('state'))
  $effect(() => tell({ tab: part === 'servers' ? '' : part, search, state: inState, from: offset }))
  let duty = $state<string[] | null>(null)
  /** Servers that are ticked, by their names. */
  let picked = $state<string[]>([])
  let probed = $state<string | null>(null)
  let opened = $state<ObjectView | null>(null)
  let lookup = $state<ObjectView | 'new' | null>(null)
  /** Weights as they are typed, by the server's path, with what each was: also those of other pages of the list. */
  let weights = $state<Record<string, { typed: string; was: number }>>({})
  /** Shares that make no sense, as they are typed. */
  let wrongShares = $state<Record<string, string>>({})
  /** What is being typed as a share; the weights of others may change meanwhile. */
  let shareTyped = $state<{ path: string; text: string } | null>(null)
  let keptAt = $state('')
  const key = $derived(`weights pools.${name}`)
  let lastKey = ''
  $effect.pre(() => {
    if (key === lastKey) return
    lastKey = key
    weights = unsaved.kept<typeof weights>(key) ?? {}
    keptAt = unsaved.works[key]?.at ?? ''
    ;[wrongShares, picked] = [{}, []]
  })
  $effect(() => unsaved.keep(key, `weights of ${name}`, Object.keys(weights).length > 0 ? weights : null))

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
    ask(`pools.${at}`, draft).then(
      (found) => {
        if (current) [pool, trouble, gone] = [found, '', false]
      },
      (error) => {
        if (!current) return
        // What was typed for it stays.
        gone = pool?.name === at && error instanceof CallError && error.status === 404
        if (!gone && !(error instanceof CallError && error.status !== 404)) pool = null
        failed(error)
      },
    )
    objects({ kind: 'server', inside: at, search, offset, limit: LIMIT, draft }).then((found) => {
      if (current) servers = found
    }, failed)
    objects({ kind: 'lookup', inside: at, limit: 100, draft }).then((found) => {
      if (current) lookups = found.objects
    }, failed)
    return () => (current = false)
  })

  const status = $derived(live.status?.pools.find((it) => it.name === name))
  const now = $derived(Object.fromEntries((status?.servers ?? []).map((it) => [it.server, it])))
  /** Servers that no one wrote down: a lookup found them. */
  const foundOnes = $derived((status?.servers ?? []).filter((it) => it.found_by !== null))
  const own = (server: ObjectView) => Number(server.keys.weight ?? 1)
  const meant = (path: string) => (weights[path] === undefined ? null : wholeNumber(weights[path].typed, 0, 1000))
  const typed = (server: ObjectView) => {
    const weight = meant(server.path)
    return typeof weight === 'number' ? weight : own(server)
  }
  const mistakeOf = (server: ObjectView): Mistake | null => {
    const weight = meant(server.path)
    return weight !== null && typeof weight !== 'number' ? weight : null
  }
  const clashOf = (server: ObjectView) => {
    const was = weights[server.path]?.was
    return was !== undefined && was !== own(server) ? `Another change set it to ${own(server)} meanwhile, from ${was}.` : ''
  }
  const wrong = $derived(Object.keys(weights).filter((path) => typeof meant(path) !== 'number').length + Object.keys(wrongShares).length)
  const edits = $derived<Edit[]>(wrong > 0 ? [] : Object.keys(weights).map((path) => ({ do: 'change', object: path, keys: { weight: meant(path) as number } })))
  function setWeight(server: ObjectView, text: string) {
    const { [server.path]: before, ...others } = weights
    const was = before?.was ?? own(server)
    weights = text.trim() === String(was) && was === own(server) ? others : { ...others, [server.path]: { typed: text, was } }
  }
  function forget() {
    weights = {}
    wrongShares = {}
    keptAt = ''
  }
  const isOf = (at: ServerStatus) =>
    inState === 'eligible'
      ? at.eligible
      : inState === 'failing'
        ? at.health.checked && at.health.state !== 'up'
        : inState === 'out'
          ? (at.duty?.duty ?? 'in_service') !== 'in_service'
          : true
  /** What is shown: a page of the list, or all that are in a state. */
  const rows = $derived.by<ObjectView[]>(() => {
    const all = servers?.objects ?? []
    if (inState === '') return all
    const those = (status?.servers ?? []).filter((it) => it.found_by === null && isOf(it) && it.server.includes(search.trim()))
    const known = Object.fromEntries(all.map((it) => [it.name, it]))
    return those.slice(offset, offset + LIMIT).map(
      (it) =>
        known[it.server] ?? {
          kind: 'server',
          path: `pools.${name}.servers.${it.server.split('/')[1]}`,
          name: it.server,
          summary: '',
          keys: { address: it.address, weight: it.weight, tier: it.tier },
          labels: {},
          note: '',
          used_by: [],
        },
    )
  })
  const total = $derived(inState === '' ? (servers?.total ?? 0) : (status?.servers ?? []).filter((it) => it.found_by === null && isOf(it)).length)
  /** The share by weight among the servers of the same tier, when all of them work. */
  const share = (server: ObjectView) => {
    const tier = Number(server.keys.tier ?? 0)
    const all = (servers?.objects ?? []).filter((it) => Number(it.keys.tier ?? 0) === tier).reduce((sum, it) => sum + typed(it), 0)
    return all === 0 ? 0 : typed(server) / all
  }
  const common = (a: number, b: number): number => (b === 0 ? a : common(b, a % b))
  /** A share as typed, to a tenth of a percent; the others keep their proportions, and all weights are as small as they can be. */
  function setShare(server: ObjectView, text: string) {
    const { [server.path]: _, ...others } = wrongShares
    const wanted = text.trim() === '' ? NaN : Number(text.replace(',', '.').replace('%', '').trim()) / 100
    if (!(wanted >= 0 && wanted <= 1)) {
      wrongShares = { ...others, [server.path]: text }
      return
    }
    wrongShares = others
    const tier = Number(server.keys.tier ?? 0)
    const peers = (servers?.objects ?? []).filter((it) => it !== server && Number(it.keys.tier ?? 0) === tier)
    const rest = peers.reduce((sum, it) => sum + typed(it), 0)
    const parts = peers.map((peer) => [peer.path, (1 - wanted) * (rest === 0 ? 1 / peers.length : typed(peer) / rest)] as const)
    const tenths = [[server.path, wanted] as const, ...parts].map(([path, part]) => [path, Math.round(part * 1000)] as const)
    const unit = tenths.reduce((unit, [, weight]) => common(unit, weight), 0) || 1
    const of = Object.fromEntries((servers?.objects ?? []).map((it) => [it.path, it]))
    for (const [path, weight] of tenths) if (of[path]) setWeight(of[path], String(weight / unit))
  }
  /** A row that stands for a state has only what is shown; the form needs all of it. */
  async function openServer(server: ObjectView) {
    try {
      opened = await ask(server.path, desk.draft)
    } catch (error) {
      trouble = words(error)
    }
  }
  const whole = $derived(inState === '' && servers !== null && servers.total <= LIMIT)
  const go = (to: string) => void navigate(to as '/')
</script>

{#snippet liveCells(at: ServerStatus | undefined)}
  {#if at}
    {@const health = healthSign(at)}
    {@const order = dutySign(at)}
    <td class="pr-3">
      <span class={`whitespace-nowrap ${order.tone}`}>{order.glyph} {order.word}</span>
      {#if at.duty && at.duty.duty !== 'in_service' && live.status}
        <div class="text-secondary" data-testid="duty-why">by {at.duty.who}, {ago(at.duty.at, live.status.at)} ago: {at.duty.reason}</div>
      {/if}
    </td>
    <td class="pr-3">
      <span class={health.tone}>{health.glyph} {health.word}</span>
      {#if at.health.checked && live.status}<span class="text-secondary">{lasting(at, live.status)}</span>{/if}
      {#if at.reason_words && at.reason !== 'draining' && at.reason !== 'withdrawn'}<div class="text-secondary">
          {at.health.last_probe && at.health.last_probe.step !== 'done' ? at.health.last_probe.observed : at.reason_words}
        </div>{/if}
      {#each standing(at, live.status?.at ?? '') as says (says)}<div class="text-secondary">{says}</div>{/each}
    </td>
    <td class="pr-3"
      ><Share
        expected={at.expected}
        goesBy={status?.shares_go_by ?? null}
        observed={at.observed.ten_seconds.share}
        minute={at.observed.minute.share}
      />{#if at.latency}<div class="text-secondary" data-testid="latency">median {micros(at.latency.median_us)}, 99 % {micros(at.latency.p99_us)}</div>{/if}</td
    >
    <td class="whitespace-nowrap text-right"
      >{#if at.health.checked}<button class="btn btn-xs" onclick={() => (probed = at.server)} aria-label={`Probes of ${at.server}`}>Probes …</button>{/if}
      <button class="btn btn-xs ml-1" onclick={() => (duty = [at.server])} aria-label={`Duty of ${at.server}`}>Duty …</button></td
    >
  {:else}
    <td colspan="4" class="text-secondary">not live</td>
  {/if}
{/snippet}

<Card>
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold"><a class="link text-secondary" href="/pools">Pools</a> / {name}</h2>
    {#if desk.draft}<span class="text-warning">◆ as in draft {desk.draft}</span>{/if}
    {#if status}
      <span>
        {#if status.eligible === 0}<span class="text-error">✕ none of {status.size} servers eligible</span>
        {:else}<span class="text-success">●</span> {status.eligible} of {status.size} servers eligible{/if}
      </span>
    {/if}
    {#if pool}
      <span>
        used by {#each pool.used_by as path, index (path)}{index > 0 ? ', ' : ''}<Path {path} />{:else}<span class="text-secondary">no frontend yet</span
          >{/each}
      </span>
      <div class="ml-auto" class:hidden={gone}><ObjectActions object={pool} ongone={() => go('/pools')} onrenamed={(to) => go(`/pools/${to}`)} /></div>
    {/if}
  </div>
  {#if gone}
    <Alert class="mb-3"
      >The pool was removed, or got another name, while this page was open. Its settings, and what you typed, are still under Settings: it can be made anew.</Alert
    >
  {:else if trouble}<Alert>{trouble}</Alert>{/if}
  {#if pool}
    {#if status?.sends_to_all}<p class="mb-2 text-warning">! No server passes: work goes to all of them, as when_none says.</p>{/if}
    {#if status && status.server_tls !== 'plain'}<p class="mb-2" class:text-warning={status.server_tls === 'unverified'} data-testid="server-tls">
        {trustWords[status.server_tls]}
      </p>{/if}
    {#if status?.server_tls_failure}<p class="mb-2 text-warning">! A handshake failed within the last minute: {status.server_tls_failure}</p>{/if}
    {#if status?.check}<p class="mb-2 text-secondary">
        check <a class="link" href={`/checks/${status.check.name}`}>{status.check.name}</a>: {status.check.asks}{#each status.more_checks as more (more)}; with
          it {more}{/each}. A failure is noticed after {length(status.check.timing.noticed.best_ms)} at best, {length(status.check.timing.noticed.average_ms)} on
        average, {length(status.check.timing.noticed.worst_ms)} at worst{#if status.check.at_stake.worst > 0}; at the current rate an undetected failure affects {status
            .check.at_stake.average}
          {status.check.at_stake.average === 1 ? 'request' : 'requests'} on average, {status.check.at_stake.worst} at worst{/if}. Each server gets up to {status
          .check.probes_per_minute} probes a minute.
      </p>{/if}
    <Tabs
      label="Parts of the pool"
      bind:value={part}
      parts={[
        { key: 'servers', title: `Servers (${servers?.total ?? 0})` },
        { key: 'totals', title: 'Totals' },
        ...(pool.keys.persistence ? [{ key: 'pins' as const, title: 'Pins' }] : []),
        { key: 'add', title: 'Add servers' },
        { key: 'lookups', title: `DNS names (${lookups.length})` },
        { key: 'settings', title: 'Settings' },
      ]}
    >
      {#if part === 'servers'}
        {#if servers && (servers.total > 1 || search || inState)}
          <div class="mb-2 flex flex-wrap items-center gap-2">
            {#if servers.total > LIMIT || search}
              <input class="input input-sm w-56" placeholder="search" aria-label="Search servers" bind:value={search} oninput={() => (offset = 0)} />
            {/if}
            <select class="select select-sm w-40" aria-label="State" bind:value={inState} onchange={() => (offset = 0)}>
              <option value="">in every state</option>
              <option value="eligible">eligible</option>
              <option value="failing">not up</option>
              <option value="out">out of service</option>
            </select>
            {#if picked.length > 0}
              <button class="btn btn-sm" onclick={() => (duty = picked)}>Duty of {picked.length} …</button>
              <button class="btn btn-ghost btn-sm" onclick={() => (picked = [])}>Untick all</button>
            {/if}
          </div>
        {/if}
        {#if keptAt && Object.keys(weights).length > 0}
          <p class="mb-2 rounded-box border border-warning px-2 py-1" data-testid="kept">
            <span class="text-warning">◆ The weights you typed at {clock(keptAt)} are still here</span> and not made yet. Go on with them, or
            <button type="button" class="btn btn-xs" onclick={forget}>Forget them</button>
          </p>
        {/if}
        {#if servers && rows.length === 0 && (inState !== '' || foundOnes.length === 0)}
          <p class="py-4 text-secondary">
            {search || inState ? 'No server matches.' : 'No servers.'}
            {#if !search && !inState}Clients of this pool get <strong>nothing</strong>: there is no server.
              <button class="btn btn-primary btn-xs" onclick={() => (part = 'add')}>Add servers</button>{/if}
          </p>
        {:else if servers}
          <div class="relative overflow-x-auto">
            <DataTable
              columns={[
                'server',
                'address',
                'weight',
                { name: 'share when all work', hidden: true },
                'duty',
                'health',
                'share: expected, last 10 s, last minute',
                { name: 'actions', spoken: true },
              ]}
            >
              {#each rows as server (server.path)}
                <tr data-server={server.name}>
                  <th scope="row" class="min-w-24 py-1 pr-3 text-left font-semibold">
                    {#if now[server.name]}<input
                        type="checkbox"
                        class="checkbox checkbox-xs mr-1 align-middle"
                        aria-label={`Pick ${server.name}`}
                        value={server.name}
                        bind:group={picked}
                      />{/if}
                    <button class="link" onclick={() => void openServer(server)}>{server.name.split('/')[1]}</button>
                  </th>
                  <td class="pr-3">{server.keys.address}{Number(server.keys.tier ?? 0) > 0 ? ` · tier ${server.keys.tier}` : ''}</td>
                  <td class="pr-3">
                    <input
                      class="input input-xs w-16 text-right"
                      inputmode="numeric"
                      aria-label={`Weight of ${server.name}`}
                      value={weights[server.path]?.typed ?? String(own(server))}
                      oninput={(event) => setWeight(server, event.currentTarget.value)}
                      aria-invalid={mistakeOf(server) ? 'true' : undefined}
                      aria-describedby={`wrong-weight-${server.name}`}
                    />
                    <FieldNotes id={`wrong-weight-${server.name}`} mistake={mistakeOf(server)} clash={clashOf(server)} />
                  </td>
                  <td class="hidden pr-3 sm:table-cell">
                    {#if whole}
                      <input
                        class="input input-xs w-16 text-right"
                        aria-label={`Share of ${server.name} in percent`}
                        value={shareTyped?.path === server.path ? shareTyped.text : (wrongShares[server.path] ?? (share(server) * 100).toFixed(1))}
                        oninput={(event) => (shareTyped = { path: server.path, text: event.currentTarget.value })}
                        onchange={(event) => setShare(server, event.currentTarget.value)}
                        onblur={() => (shareTyped = null)}
                        aria-invalid={wrongShares[server.path] === undefined ? undefined : 'true'}
                        aria-describedby={`wrong-share-${server.name}`}
                      />
                      %
                      <FieldNotes
                        id={`wrong-share-${server.name}`}
                        mistake={wrongShares[server.path] === undefined
                          ? null
                          : { found: wrongShares[server.path]?.trim() ? `found ${wrongShares[server.path]}` : 'found nothing', expected: '0 to 100' }}
                      />
                    {:else}<span class="text-secondary">–</span>{/if}
                  </td>
                  {@render liveCells(now[server.name])}
                </tr>
              {/each}
              {#each foundOnes.filter(isOf) as at (at.server)}
                <tr data-server={at.server}>
                  <th scope="row" class="py-1 pr-3 text-left font-semibold">{at.server.split('/')[1]}</th>
                  <td class="pr-3">{at.address}{at.tier > 0 ? ` · tier ${at.tier}` : ''}</td>
                  <td class="pr-3 text-right">{at.weight}</td>
                  <td class="hidden pr-3 text-secondary sm:table-cell">found by {at.found_by}</td>
                  {@render liveCells(at)}
                </tr>
              {/each}
            </DataTable>
          </div>
          <Pager bind:offset limit={LIMIT} {total} />
          {#if edits.length > 0 || wrong > 0}
            <section class="mt-3 rounded-box border border-base-300 bg-base-200 p-3" aria-label="What these weights do">
              <div class="mb-2 flex items-baseline justify-between">
                <h3 class="font-semibold">What these weights do</h3>
                <button class="btn btn-ghost btn-xs" onclick={forget}>Forget them</button>
              </div>
              <GoLive {edits} {wrong} basedOn={desk.draft ? undefined : live.status?.revision.number} onmade={forget} />
            </section>
          {/if}
        {/if}
      {:else if part === 'totals'}
        {#if status && live.status}<Totals servers={status.servers} status={live.status} />{/if}
      {:else if part === 'add'}
        <AddServers pool={name} onmade={() => (part = 'servers')} />
      {:else if part === 'lookups'}
        <ul class="mb-3">
          {#each lookups as it (it.path)}
            {@const at = status?.lookups.find((found) => `${name}/${found.lookup}` === it.name)}
            <li class="flex flex-wrap items-baseline gap-3 border-t border-base-300 py-1 first:border-0">
              <button class="link font-semibold" onclick={() => (lookup = it)}>{it.name.split('/')[1]}</button>
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
                {#if lookup !== 'new'}<ObjectActions object={lookup} ongone={() => (lookup = null)} onrenamed={() => (lookup = null)} />{/if}
              </div>
              <ObjectForm kind="lookup" around={`pools.${name}.lookups.`} object={lookup === 'new' ? null : lookup} onmade={() => (lookup = null)} />
            </section>
          {/key}
        {:else}
          <button class="btn btn-sm" onclick={() => (lookup = 'new')}>New DNS name</button>
        {/if}
      {:else if part === 'pins'}
        <Pins pool={name} servers={status?.servers ?? []} />
      {:else}
        <ObjectForm kind="pool" object={pool} {gone} basedOn={desk.draft ? undefined : live.status?.revision.number} onmade={() => {}} />
      {/if}
    </Tabs>
  {/if}
</Card>

{#if duty}
  <DutyDialog
    servers={duty}
    onclose={() => {
      duty = null
      picked = []
    }}
  />
{/if}
{#if probed}
  <ProbesDialog server={probed} onclose={() => (probed = null)} />
{/if}
{#if opened}
  <Dialog title={`Server ${opened.name}`} wide onclose={() => (opened = null)}>
    <div class="mb-3 flex justify-end"><ObjectActions object={opened} ongone={() => (opened = null)} onrenamed={() => (opened = null)} /></div>
    <ObjectForm kind="server" object={opened} basedOn={desk.draft ? undefined : live.status?.revision.number} onmade={() => (opened = null)} />
  </Dialog>
{/if}
