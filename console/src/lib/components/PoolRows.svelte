<script lang="ts">
  import DataTable from './DataTable.svelte'
  import type { Status } from '../api/types'
  import { asked, askedNumber, tell } from '../desk/address'
  import { rate } from '../format/format'
  import Pager from './Pager.svelte'

  // Pools in one line each, those in trouble first: for installations with very many servers.
  let { status }: { status: Status } = $props()

  const PAGE = 20
  let search = $state(asked('search'))
  let offset = $state(askedNumber('from'))
  $effect(() => tell({ search, from: offset }))

  const frontends = $derived.by(() => {
    const of: Record<string, string[]> = {}
    for (const it of status.frontends) (of[it.pool] ??= []).push(it.name)
    return of
  })
  const found = $derived(
    status.pools
      .filter((pool) => pool.name.includes(search.trim()))
      .sort((a, b) => Number(a.eligible > 0) - Number(b.eligible > 0) || b.failing - a.failing || a.name.localeCompare(b.name)),
  )
  const shown = $derived(found.slice(offset, offset + PAGE))
</script>

<section class="rounded-box border border-base-300 bg-base-100 p-3" aria-labelledby="pools-title">
  <div class="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
    <h2 id="pools-title" class="font-semibold">{status.pools.length} pools with {status.servers} servers, those in trouble first</h2>
    <input class="input input-xs w-48" placeholder="search" aria-label="Search pools" bind:value={search} oninput={() => (offset = 0)} />
  </div>
  <DataTable columns={['pool', 'frontends', { name: 'eligible', right: true }, { name: 'failing', right: true }, { name: 'requests/s', right: true }]}>
    {#each shown as pool (pool.name)}
      <tr>
        <th scope="row" class="py-0.5 text-left"><a class="link font-semibold" href={`/pools/${pool.name}`}>{pool.name}</a></th>
        <td>{(frontends[pool.name] ?? []).join(', ') || '–'}</td>
        <td class="text-right" class:text-error={pool.eligible === 0}>{pool.eligible === 0 ? '✕ ' : ''}{pool.eligible} of {pool.size}</td>
        <td class="text-right" class:text-warning={pool.failing > 0}>{pool.failing}</td>
        <td class="text-right">{rate(pool.per_second)}</td>
      </tr>
    {/each}
  </DataTable>
  <Pager bind:offset limit={PAGE} total={found.length} />
</section>
