<script lang="ts">
  import DataTable from '../lib/components/DataTable.svelte'
  import { useAnswer } from '../lib/api/useAnswer'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import AddressHolders from '../lib/components/AddressHolders.svelte'
  import AnnouncementParts from '../lib/components/AnnouncementParts.svelte'
  import CertificateStrip from '../lib/components/CertificateStrip.svelte'
  import { objects, words } from '../lib/api/call'
  import type { Kind, Objects } from '../lib/api/types'
  import SentMessages from '../lib/components/SentMessages.svelte'
  import Pager from '../lib/components/Pager.svelte'
  import Path from '../lib/components/Path.svelte'
  import LimitCounts from '../lib/components/LimitCounts.svelte'
  import ObjectForm from '../lib/components/ObjectForm.svelte'
  import TryHandshake from '../lib/components/TryHandshake.svelte'
  import { desk } from '../lib/desk/desk.svelte'
  import { asked, askedNumber, tell } from '../lib/desk/address'
  import { KINDS, labelText } from '../lib/desk/fields'
  import { unsaved } from '../lib/desk/unsaved.svelte'
  import { kindOf, pageOf } from '../lib/desk/place'
  import { rate } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'
  import { goOn } from '../lib/desk/goOn'
  import { route } from '../router'

  const LIMIT = 50

  const kind = $derived<Kind>(kindOf(route.pathname))
  let search = $state('')
  let labels = $state('')
  let offset = $state(0)
  let found = $state.raw<Objects | null>(null)
  let trouble = $state('')
  let adding = $state(false)

  /** Which of them, by how they are; only frontends and pools are in a state. */
  let inState = $state('')

  let lastKind = ''
  $effect.pre(() => {
    if (kind === lastKind) return
    lastKind = kind
    search = asked('search')
    labels = asked('labels')
    inState = asked('state')
    offset = askedNumber('from')
    adding = unsaved.kept(`form ${KINDS[kind].home}.*`) !== null
    live.look(null)
  })
  $effect(() => tell({ search, labels, state: inState, from: offset }))

  $effect(() => {
    void desk.made
    void live.changes
    // States are known here and not to the list, so that one of a state is asked for whole.
    const range = inState ? { offset: 0, limit: 1000 } : { offset, limit: LIMIT }
    return useAnswer(
      objects({ kind, search, labels, ...range, draft: desk.draft }),
      (page) => {
        ;[found, trouble] = [page, '']
      },
      (error) => {
        trouble = words(error)
      },
    )
  })

  const frontends = $derived(Object.fromEntries((live.status?.frontends ?? []).map((it) => [it.name, it])))
  const pools = $derived(Object.fromEntries((live.status?.pools ?? []).map((it) => [it.name, it])))
  const isInTrouble = (name: string) =>
    kind === 'pool'
      ? (pools[name]?.eligible ?? 0) < (pools[name]?.size ?? 0) || pools[name]?.size === 0
      : Boolean(frontends[name]?.trouble) || (frontends[name]?.unavailable ?? 0) + (frontends[name]?.unanswered ?? 0) > 0
  const isEmpty = (name: string) => (kind === 'pool' ? pools[name]?.eligible === 0 : frontends[name]?.listening === false)
  const shown = $derived(
    (found?.objects ?? []).filter(
      (it) => inState === '' || (inState === 'trouble' ? isInTrouble(it.name) : inState === 'empty' ? isEmpty(it.name) : !isInTrouble(it.name)),
    ),
  )
  const uses = $derived(!['frontend', 'notification', 'address'].includes(kind))
</script>

<Card>
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">{KINDS[kind].many}</h2>
    {#if desk.draft}<span class="text-warning">◆ as in draft {desk.draft}</span>{/if}
    <input class="input input-sm w-44" placeholder="search" aria-label="Search" bind:value={search} oninput={() => (offset = 0)} />
    <input class="input input-sm w-52" placeholder="label, such as site=north" aria-label="Labels" bind:value={labels} oninput={() => (offset = 0)} />
    {#if kind === 'frontend' || kind === 'pool'}
      <select class="select select-sm w-44" aria-label="State" bind:value={inState} onchange={() => (offset = 0)}>
        <option value="">in every state</option>
        <option value="trouble">in trouble</option>
        <option value="empty">{kind === 'pool' ? 'no server eligible' : 'not listening'}</option>
        <option value="well">all is well</option>
      </select>
    {/if}
    {#if kind === 'certificate'}<a class="link" href="/authorities">Authorities that they are ordered from</a>{/if}
    {#if kind === 'rule'}
      <a class="link" href="/examples">Examples that they are tested with</a>
      <a class="link" href="/networks">Networks of clients</a>
      <a class="link" href="/limits">Limits of clients</a>
    {/if}
    {#if kind === 'limit'}<a class="link" href="/rules">Rules</a>{/if}
    {#if kind === 'address'}<a class="link" href="/nodes">Nodes</a>{/if}
    {#if kind === 'network'}<a class="link" href="/rules">Rules</a>{/if}
    {#if kind === 'example'}<a class="link" href="/rules">Rules</a>{/if}
    {#if kind === 'authority'}<a class="link" href="/certificates">Certificates</a>{/if}
    {#if kind === 'frontend'}<a class="btn btn-sm ml-auto" href="/new-service">New service …</a>{/if}
    <button class={`btn btn-primary btn-sm ${kind === 'frontend' ? '' : 'ml-auto'}`} onclick={() => (adding = !adding)} aria-expanded={adding}>
      {adding ? 'Close' : `New ${KINDS[kind].one}`}
    </button>
  </div>
  {#if kind === 'limit'}<LimitCounts />{/if}
  {#if adding}
    <section class="mb-4 rounded-box border border-base-300 p-3" aria-label={`New ${KINDS[kind].one}`}>
      <ObjectForm
        {kind}
        onmade={(name) => {
          adding = false
          void goOn(`/${KINDS[kind].home}`, `/${KINDS[kind].home}/${name}`)
        }}
      />
    </section>
  {/if}
  {#if kind === 'address'}<AddressHolders />{/if}
  {#if kind === 'announcement'}<AnnouncementParts />{/if}
  {#if kind === 'certificate'}
    <CertificateStrip />
    <TryHandshake />
  {/if}
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if found}
    {#if found.total === 0 || (inState !== '' && shown.length === 0)}
      <p class="py-6 text-center text-secondary">
        {search || labels || inState ? `No ${KINDS[kind].one} matches.` : `There is no ${KINDS[kind].one} yet.`}
      </p>
    {:else}
      <div class="relative overflow-x-auto">
        <DataTable
          columns={[
            KINDS[kind].one,
            'Configuration',
            ...(kind === 'frontend' || kind === 'pool' ? ['Status'] : []),
            ...(uses ? ['used by'] : []),
            'labels',
            'note',
          ]}
        >
          {#each shown as object (object.path)}
            <tr class="hover:bg-base-200" data-object={object.path}>
              <th scope="row" class="py-1 pr-4 text-left font-semibold"><a class="link" href={pageOf(object.path)}>{object.name}</a></th>
              <td class="pr-4">{object.summary}</td>
              {#if kind === 'frontend'}
                {@const now = frontends[object.name]}
                <td class="pr-4">
                  {#if !now}<span class="text-secondary">not live</span>
                  {:else if now.trouble}<span class="text-error">✕ {now.trouble}</span>
                  {:else}<span class="text-success">●</span> {rate(now.per_second)}/s, {now.connections} clients{/if}
                </td>
              {:else if kind === 'pool'}
                {@const now = pools[object.name]}
                <td class="pr-4">
                  {#if !now}<span class="text-secondary">not live</span>
                  {:else if now.eligible === 0}<span class="text-error">✕ none of {now.size} eligible</span>
                  {:else}<span class="text-success">●</span> {now.eligible} of {now.size} eligible, {rate(now.per_second)}/s{/if}
                </td>
              {/if}
              {#if uses}
                <td class="pr-4">
                  {#each object.used_by.slice(0, 6) as path, index (path)}{index > 0 ? ', ' : ''}<Path {path} />{:else}<span class="text-secondary">none</span
                    >{/each}{object.used_by.length > 6 ? ` and ${object.used_by.length - 6} more` : ''}
                </td>
              {/if}
              <td class="pr-4">{labelText(object.labels)}</td>
              <td>{object.note}</td>
            </tr>
          {/each}
        </DataTable>
      </div>
      {#if inState === ''}<Pager bind:offset limit={LIMIT} total={found.total} />{/if}
    {/if}
  {/if}
  {#if kind === 'notification'}<div class="mt-4"><SentMessages /></div>{/if}
</Card>
