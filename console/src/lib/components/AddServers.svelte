<script lang="ts">
  import { hosts } from '../api/call'
  import type { Edit, HostView } from '../api/types'
  import { desk } from '../desk/desk.svelte'
  import GoLive from './GoLive.svelte'

  // Servers are picked from hosts, many at once, or pasted as lines.
  let { pool, onmade }: { pool: string; onmade: () => void } = $props()

  const LIMIT = 50
  let search = $state('')
  let port = $state('')
  let weight = $state('')
  let tier = $state('')
  let lines = $state('')
  let picked = $state<string[]>([])
  let found = $state.raw<HostView[]>([])
  let total = $state(0)

  $effect(() => {
    void desk.made
    let current = true
    hosts({ search, limit: LIMIT }).then((page) => {
      if (current) [found, total] = [page.hosts, page.total]
    }, () => {})
    return () => (current = false)
  })

  const place = (host: HostView) => host.name ?? (host.address.includes(':') ? `[${host.address}]` : host.address)
  const all = $derived([...picked.map((host) => `${host}:${port.trim() || '?'}`), ...lines.split('\n').filter((line) => line.trim() !== '')])
  const number = (text: string) => (/^\d+$/.test(text.trim()) ? Number(text.trim()) : undefined)
  const edits = $derived.by<Edit[]>(() => {
    if (all.length === 0 || (picked.length > 0 && number(port) === undefined)) return []
    const [own, rank] = [number(weight), number(tier)]
    return [{ do: 'add_servers', pool, lines: all.join('\n'), ...(own === undefined ? {} : { weight: own }), ...(rank === undefined ? {} : { tier: rank }) }]
  })
</script>

<div class="grid gap-4 lg:grid-cols-3">
  <div>
    <h3 class="mb-1 font-semibold">Hosts</h3>
    <input class="input input-sm mb-1 w-full" placeholder="search name, address, label" aria-label="Search hosts" bind:value={search} />
    <div class="max-h-56 overflow-auto rounded-box border border-base-300 p-1">
      {#each found as host (host.address)}
        <label class="flex items-baseline gap-2 px-1 hover:bg-base-200">
          <input type="checkbox" class="checkbox checkbox-xs" value={place(host)} bind:group={picked} />
          <span class="font-semibold">{host.name ?? '(only seen)'}</span>
          <span>{host.address}</span>
          <span class="truncate text-secondary">{host.servers.join(', ')}</span>
        </label>
      {:else}
        <p class="p-2 text-secondary">No host {search ? 'matches' : 'is known yet'}.</p>
      {/each}
      {#if total > LIMIT}<p class="p-1 text-secondary">{LIMIT} of {total} are shown; search for others.</p>{/if}
    </div>
  </div>
  <div>
    <div class="grid grid-cols-3 gap-2">
      <label>Port<input class="input input-sm w-full" inputmode="numeric" bind:value={port} placeholder="8080" /></label>
      <label>Weight<input class="input input-sm w-full" inputmode="numeric" bind:value={weight} placeholder="1" /></label>
      <label>Tier<input class="input input-sm w-full" inputmode="numeric" bind:value={tier} placeholder="0" /></label>
    </div>
    <label class="mt-2 block" for="lines">Or lines: address:port [weight], host:port, first-last:port</label>
    <textarea id="lines" class="textarea w-full font-mono" rows="6" bind:value={lines} placeholder={'192.0.2.21:8080 3\n192.0.2.30-192.0.2.39:8080'}></textarea>
    {#if picked.length > 0 && number(port) === undefined}<p class="text-warning">▲ The hosts need a port.</p>{/if}
  </div>
  <div class="rounded-box border border-base-300 bg-base-200 p-3">
    <h3 class="mb-2 font-semibold">What this does</h3>
    <GoLive {edits} verb={`Add ${all.length === 1 ? 'it' : 'them'}`} onmade={() => { picked = []; lines = ''; onmade() }} />
  </div>
</div>
