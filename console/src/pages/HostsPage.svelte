<script lang="ts">
  import DataTable from '../lib/components/DataTable.svelte'
  import { useAnswer } from '../lib/api/useAnswer'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import DutyDialog from '../lib/components/DutyDialog.svelte'
  import { hosts, words } from '../lib/api/call'
  import type { Edit, Hosts } from '../lib/api/types'
  import GoLive from '../lib/components/GoLive.svelte'
  import Pager from '../lib/components/Pager.svelte'
  import ObjectForm from '../lib/components/ObjectForm.svelte'
  import { desk } from '../lib/desk/desk.svelte'
  import { asked, askedNumber, tell } from '../lib/desk/address'
  import { labelText } from '../lib/desk/fields'
  import { unsaved } from '../lib/desk/unsaved.svelte'
  import { live } from '../lib/live/live.svelte'

  const LIMIT = 50

  /** The servers of a host, or of all hosts with a label, that an order is for. */
  let duty = $state<{ of: string; servers: string[] } | null>(null)

  let search = $state(asked('search'))
  let labels = $state(asked('labels'))
  let offset = $state(askedNumber('from'))
  $effect(() => tell({ search, labels, from: offset }))
  let found = $state.raw<Hosts | null>(null)
  const listed = $derived(found?.hosts.flatMap((host) => host.servers) ?? [])
  let trouble = $state('')
  const LIST = 'list of hosts'
  let list = $state(unsaved.kept<string>(LIST) ?? '')
  let doing = $state<'add' | 'import' | null>(unsaved.kept('form hosts.*') ? 'add' : unsaved.kept(LIST) ? 'import' : null)
  $effect(() => unsaved.keep(LIST, LIST, list.trim() ? list : null))
  let format = $state<'hosts' | 'csv'>('hosts')

  $effect(() => {
    void desk.made
    void live.changes
    return useAnswer(
      hosts({ search, labels, offset, limit: LIMIT }),
      (page) => {
        ;[found, trouble] = [page, '']
      },
      (error) => {
        trouble = words(error)
      },
    )
  })

  const edits = $derived<Edit[]>(list.trim() ? [{ do: 'import_hosts', format, text: list }] : [])
</script>

<Card>
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">Hosts</h2>
    <input class="input input-sm w-44" placeholder="search" aria-label="Search" bind:value={search} oninput={() => (offset = 0)} />
    <input class="input input-sm w-52" placeholder="label, such as site=north" aria-label="Labels" bind:value={labels} oninput={() => (offset = 0)} />
    {#if labels && found && found.total <= LIMIT && listed.length > 0}
      <button class="btn btn-sm" onclick={() => (duty = { of: `${listed.length} servers on hosts with ${labels}`, servers: listed })}
        >Duty of {listed.length} servers …</button
      >
    {/if}
    <button class="btn btn-sm ml-auto" aria-expanded={doing === 'import'} onclick={() => (doing = doing === 'import' ? null : 'import')}>Import a list</button>
    <button class="btn btn-primary btn-sm" aria-expanded={doing === 'add'} onclick={() => (doing = doing === 'add' ? null : 'add')}>New host</button>
  </div>
  {#if doing === 'add'}
    <section class="mb-4 rounded-box border border-base-300 p-3" aria-label="New host"><ObjectForm kind="host" onmade={() => (doing = null)} /></section>
  {:else if doing === 'import'}
    <section class="mb-4 grid gap-4 rounded-box border border-base-300 p-3 lg:grid-cols-2" aria-label="Import a list">
      <div>
        <fieldset class="mb-1 flex gap-4">
          <legend class="sr-only">How the list is written</legend>
          <label class="flex gap-2"><input type="radio" class="radio radio-xs" value="hosts" bind:group={format} /> address name, a line each</label>
          <label class="flex gap-2"
            ><input type="radio" class="radio radio-xs" value="csv" bind:group={format} /> CSV with the columns name, address, note; others are labels</label
          >
        </fieldset>
        <textarea
          class="textarea w-full font-mono"
          rows="8"
          aria-label="The list"
          bind:value={list}
          placeholder={format === 'csv' ? 'name,address,site\ngull,192.0.2.21,north' : '192.0.2.21 gull\n192.0.2.22 tern'}></textarea>
      </div>
      <div class="rounded-box border border-base-300 bg-base-200 p-3">
        <h3 class="mb-2 font-semibold">What this does</h3>
        <GoLive
          {edits}
          verb="Import them"
          onmade={() => {
            unsaved.keep(LIST, '', null)
            list = ''
            doing = null
          }}
        />
      </div>
    </section>
  {/if}
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if found}
    {#if found.total === 0}
      <p class="py-6 text-center text-secondary">{search || labels ? 'No host matches.' : 'No host is known or seen yet.'}</p>
    {:else}
      <div class="relative overflow-x-auto">
        <DataTable columns={['host', 'address', 'servers', 'labels', 'note', { name: 'maintenance', spoken: true }]}>
          {#each found.hosts as host (host.address)}
            <tr class="hover:bg-base-200" data-host={host.address}>
              <th scope="row" class="py-1 pr-4 text-left font-semibold">
                {#if host.name}<a class="link" href={`/hosts/${host.name}`}>{host.name}</a>{:else}<span class="font-normal text-secondary"
                    >only seen in pools</span
                  >{/if}
              </th>
              <td class="pr-4">{host.address}</td>
              <td class="pr-4">
                {#each host.servers.slice(0, 8) as server, index (server)}{index > 0 ? ', ' : ''}<a class="link" href={`/pools/${server.split('/')[0]}`}
                    >{server}</a
                  >{:else}<span class="text-secondary">none</span>{/each}{host.servers.length > 8 ? ` and ${host.servers.length - 8} more` : ''}
              </td>
              <td class="pr-4">{labelText(host.labels)}</td>
              <td>{host.note}</td>
              <td class="text-right"
                >{#if host.servers.length > 0}<button
                    class="btn btn-xs whitespace-nowrap"
                    aria-label={`Duty of host ${host.name ?? host.address}`}
                    onclick={() => (duty = { of: `host ${host.name ?? host.address}`, servers: host.servers })}>Duty …</button
                  >{/if}</td
              >
            </tr>
          {/each}
        </DataTable>
      </div>
      <Pager bind:offset limit={LIMIT} total={found.total} />
    {/if}
  {/if}
</Card>

{#if duty}
  <DutyDialog servers={duty.servers} of={duty.of} onclose={() => (duty = null)} />
{/if}
