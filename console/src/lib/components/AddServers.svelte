<script lang="ts">
  import { useAnswer } from '../api/useAnswer'
  import { hosts } from '../api/call'
  import type { Edit, HostView } from '../api/types'
  import { desk } from '../desk/desk.svelte'
  import { wholeNumber, type Mistake } from '../desk/fields'
  import { unsaved } from '../desk/unsaved.svelte'
  import FieldNotes from './FieldNotes.svelte'
  import GoLive from './GoLive.svelte'

  // Servers are picked from hosts, many at once, or pasted as lines.
  let { pool, onmade }: { pool: string; onmade: () => void } = $props()

  const LIMIT = 50
  let search = $state('')
  // svelte-ignore state_referenced_locally
  const key = `add pools.${pool}`
  const before = unsaved.kept<{ port: string; weight: string; tier: string; lines: string; picked: string[] }>(key)
  let port = $state(before?.port ?? '')
  let weight = $state(before?.weight ?? '')
  let tier = $state(before?.tier ?? '')
  let lines = $state(before?.lines ?? '')
  let picked = $state<string[]>(before?.picked ?? [])
  let found = $state.raw<HostView[]>([])
  let total = $state(0)

  $effect(() => {
    void desk.made
    return useAnswer(
      hosts({ search, limit: LIMIT }),
      (page) => {
        ;[found, total] = [page.hosts, page.total]
      },
      () => {},
    )
  })

  const place = (host: HostView) => host.name ?? (host.address.includes(':') ? `[${host.address}]` : host.address)
  const all = $derived([...picked.map((host) => `${host}:${port.trim() || '?'}`), ...lines.split('\n').filter((line) => line.trim() !== '')])
  $effect(() => {
    const typed = { port, weight, tier, lines, picked: [...picked] }
    unsaved.keep(key, `servers for ${pool}`, picked.length > 0 || [port, weight, tier, lines].some((it) => it.trim() !== '') ? typed : null)
  })

  const mistake = (text: string, least: number, most: number): Mistake | null => {
    const number = text.trim() === '' ? 0 : wholeNumber(text, least, most)
    return typeof number === 'number' ? null : number
  }
  const portMistake = $derived(
    picked.length > 0 && port.trim() === '' ? { found: 'found nothing', expected: 'a port, for the hosts' } : mistake(port, 1, 65535),
  )
  const weightMistake = $derived(mistake(weight, 0, 1000))
  const tierMistake = $derived(mistake(tier, 0, 7))
  const wrong = $derived([portMistake, weightMistake, tierMistake].filter((it) => it !== null).length)
  const number = (text: string) => (text.trim() === '' ? undefined : Number(text.trim()))
  const edits = $derived.by<Edit[]>(() => {
    if (all.length === 0 || wrong > 0) return []
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
      <label
        >Port<input
          class="input input-sm w-full"
          inputmode="numeric"
          bind:value={port}
          placeholder="8080"
          aria-invalid={portMistake ? 'true' : undefined}
          aria-describedby="wrong-port"
        /></label
      >
      <label
        >Weight<input
          class="input input-sm w-full"
          inputmode="numeric"
          bind:value={weight}
          placeholder="1"
          aria-invalid={weightMistake ? 'true' : undefined}
          aria-describedby="wrong-weight"
        /></label
      >
      <label
        >Tier<input
          class="input input-sm w-full"
          inputmode="numeric"
          bind:value={tier}
          placeholder="0"
          aria-invalid={tierMistake ? 'true' : undefined}
          aria-describedby="wrong-tier"
        /></label
      >
    </div>
    <FieldNotes id="wrong-port" mistake={portMistake} />
    <FieldNotes id="wrong-weight" mistake={weightMistake} />
    <FieldNotes id="wrong-tier" mistake={tierMistake} />
    <label class="mt-2 block" for="lines">Or lines: address:port [weight], host:port, first-last:port</label>
    <textarea id="lines" class="textarea w-full font-mono" rows="6" bind:value={lines} placeholder={'192.0.2.21:8080 3\n192.0.2.30-192.0.2.39:8080'}></textarea>
  </div>
  <div class="rounded-box border border-base-300 bg-base-200 p-3">
    <h3 class="mb-2 font-semibold">What this does</h3>
    <GoLive
      {edits}
      {wrong}
      verb={`Add ${all.length === 1 ? 'it' : 'them'}`}
      onmade={() => {
        unsaved.keep(key, '', null)
        picked = []
        lines = ''
        onmade()
      }}
    />
  </div>
</div>
