<script lang="ts">
  import { useAnswer } from '../lib/api/useAnswer'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import { CallError, object as ask, words } from '../lib/api/call'
  import type { Edit, ObjectView } from '../lib/api/types'
  import Explain from '../lib/components/Explain.svelte'
  import GoLive from '../lib/components/GoLive.svelte'
  import SentMessages from '../lib/components/SentMessages.svelte'
  import Path from '../lib/components/Path.svelte'
  import AddressHolders from '../lib/components/AddressHolders.svelte'
  import AnnouncementParts from '../lib/components/AnnouncementParts.svelte'
  import LimitCounts from '../lib/components/LimitCounts.svelte'
  import MaintenanceDialog from '../lib/components/MaintenanceDialog.svelte'
  import ObjectActions from '../lib/components/ObjectActions.svelte'
  import ObjectForm from '../lib/components/ObjectForm.svelte'
  import FrontendDiagnosis from '../lib/components/FrontendDiagnosis.svelte'
  import Refusals from '../lib/components/Refusals.svelte'
  import RuleOrder from '../lib/components/RuleOrder.svelte'
  import TrialDialog from '../lib/components/TrialDialog.svelte'
  import { desk } from '../lib/desk/desk.svelte'
  import { KINDS } from '../lib/desk/fields'
  import { kindOf } from '../lib/desk/place'
  import { noticed, rate } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'
  import { navigate, route } from '../router'

  const kind = $derived(kindOf(route.pathname))
  const name = $derived(route.pathname.split('/')[2] ?? '')
  let object = $state.raw<ObjectView | null>(null)
  let trouble = $state('')
  /** It was there when the page was opened, and is not any more. */
  let gone = $state(false)
  let trying = $state(false)
  let climbing = $state(false)
  let maintaining = $state(false)
  let taking = $state('')
  let releasing = $state('')

  $effect(() => {
    void desk.made
    void live.changes
    return useAnswer(
      ask(`${KINDS[kind].home}.${name}`, desk.draft),
      (found) => {
        ;[object, trouble, gone] = [found, '', false]
      },
      (error) => {
        trouble = words(error)
        // What was typed for it stays.
        gone = object?.name === name && error instanceof CallError && error.status === 404
        if (!gone && !(error instanceof CallError && error.status !== 404)) object = null
      },
    )
  })

  const go = (to: string) => void navigate(to as '/')
  const frontend = $derived(kind === 'frontend' ? live.status?.frontends.find((it) => it.name === name) : undefined)
  const taken = $derived(kind === 'range' ? Object.entries((object?.keys.reserved ?? {}) as Record<string, string>) : [])
  const release = $derived<Edit[]>(releasing ? [{ do: 'remove', object: `ranges.${name}.reserved.${releasing}` }] : [])
  const take = $derived<Edit[]>(taking.trim() ? [{ do: 'reserve', range: name, name: taking.trim() }] : [])
</script>

<Card>
  <div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">
      <a class="link text-secondary" href={`/${KINDS[kind].home}`}>{KINDS[kind].many}</a> / {name}
    </h2>
    {#if desk.draft}<span class="text-warning">◆ as in draft {desk.draft}</span>{/if}
    {#if frontend}
      {#if frontend.trouble}
        <span class="text-error">✕ {frontend.trouble}</span>
      {:else}
        <span
          ><span class="text-success">●</span> listens; {rate(frontend.per_second)}
          {frontend.unit}s/s, {frontend.connections}
          {frontend.unit === 'flow' ? 'flows' : 'clients'}</span
        >
      {/if}
      <button class="btn btn-xs" onclick={() => (climbing = true)}>Find where it fails …</button>
      {#if frontend.redirects}<span class="text-secondary">redirects every request to https</span>{:else}<button
          class="btn btn-xs"
          onclick={() => (trying = true)}>Try it …</button
        >{/if}
      {#if frontend.protocol === 'http' && object && !gone}<button class="btn btn-xs" onclick={() => (maintaining = true)}
          >{object.keys.maintenance ? 'End maintenance …' : 'Maintenance …'}</button
        >{/if}
    {/if}
    {#if object && !gone}
      <div class="ml-auto">
        <ObjectActions {object} ongone={() => go(`/${KINDS[kind].home}`)} onrenamed={(to) => go(`/${KINDS[kind].home}/${to}`)} />
      </div>
    {/if}
  </div>
  {#if gone}
    <Alert class="mb-3"
      >It was removed, or got another name, while this page was open. What it was, and what you typed, is still here: it can be made anew.</Alert
    >
  {:else if trouble}<Alert>{trouble}</Alert>{/if}
  {#if object}
    {#if object.used_by.length > 0}
      <p class="mb-3">
        Used by {#each object.used_by.slice(0, 20) as path, index (path)}{index > 0 ? ', ' : ''}<Path {path} />{/each}{object.used_by.length > 20
          ? ` and ${object.used_by.length - 20} more`
          : ''}
      </p>
    {/if}
    {#if object.timing}<p class="mb-3 text-secondary">A failure is {noticed(object.timing)}.</p>{/if}
    {#if frontend && frontend.protocol !== 'udp' && !frontend.redirects}
      <RuleOrder frontend={name} listed={(object.keys.rules ?? []) as string[]} />
    {/if}
    {#if kind === 'limit'}<LimitCounts limit={name} />{/if}
    {#if kind === 'address' && !gone}<AddressHolders only={name} />{/if}
    {#if kind === 'announcement' && !gone}<AnnouncementParts only={name} />{/if}
    {#if frontend}<Refusals frontend={name} />{/if}
    {#if frontend}<Explain frontend={name} protocol={frontend.protocol} tls={frontend.tls} />{/if}
    {#if kind === 'range'}
      <section class="mb-4 grid gap-4 lg:grid-cols-2" aria-label="Reserved addresses">
        <div>
          <h3 class="mb-1 font-semibold">Taken</h3>
          <ul>
            {#each taken as [taker, address] (taker)}
              <li class="flex items-center gap-3 py-0.5">
                <code>{address}</code>
                {taker}
                <button
                  class="btn btn-xs"
                  onclick={() => {
                    taking = ''
                    releasing = taker
                  }}>Release …</button
                >
              </li>
            {:else}
              <li class="text-secondary">No address is taken yet.</li>
            {/each}
          </ul>
          <label class="mt-2 block" for="taking">Take the next free one, as</label>
          <input id="taking" class="input input-sm" autocomplete="off" bind:value={taking} maxlength="63" />
        </div>
        {#if taking.trim()}
          <div class="rounded-box border border-base-300 bg-base-200 p-3"><GoLive edits={take} verb="Take it" onmade={() => (taking = '')} /></div>
        {:else if releasing}
          <div class="rounded-box border border-base-300 bg-base-200 p-3"><GoLive edits={release} verb="Release it" onmade={() => (releasing = '')} /></div>
        {/if}
      </section>
    {/if}
    {#if kind === 'notification'}<SentMessages {name} />{/if}
    <ObjectForm {kind} {object} {gone} basedOn={desk.draft ? undefined : live.status?.revision.number} onmade={() => {}} />
  {/if}
</Card>

{#if climbing}
  <FrontendDiagnosis frontend={name} onclose={() => (climbing = false)} />
{/if}
{#if maintaining && object}
  <MaintenanceDialog frontend={object} onclose={() => (maintaining = false)} />
{/if}
{#if trying}
  <TrialDialog frontend={name} onclose={() => (trying = false)} />
{/if}
