<script lang="ts">
  import Card from '../lib/components/Card.svelte'
  import { objects } from '../lib/api/call'
  import type { Edit, Keys, Warned } from '../lib/api/types'
  import FieldNotes from '../lib/components/FieldNotes.svelte'
  import GoLive from '../lib/components/GoLive.svelte'
  import { desk, foresee, type Outlook } from '../lib/desk/desk.svelte'
  import { byKey, wholeNumber, wrongName, type Mistake } from '../lib/desk/fields'
  import { unsaved } from '../lib/desk/unsaved.svelte'
  import { clock } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'
  import { goOn } from '../lib/desk/goOn'

  // A frontend, its pool, servers and check, in one step.
  const KEY = 'new service'
  const CHECKS = ['http', 'https', 'tcp', 'tls', 'icmp', 'grpc']
  const EMPTY = { name: '', protocol: 'http', place: 'own', listen: '', range: '', port: '', servers: '', check: 'http', path: '/', known: '' }

  live.look(null)
  const keptAt = unsaved.works[KEY]?.at ?? ''
  let it = $state({ ...EMPTY, ...unsaved.kept<typeof EMPTY>(KEY) })
  let made = $state(false)
  let ranges = $state<string[]>([])
  let checks = $state<string[]>([])
  let outlook = $state.raw<Outlook | null>(null)
  let tried = $state.raw<{ text: string; failed: Warned[] } | null>(null)
  let busy = $state(false)

  $effect(() => {
    void desk.made
    objects({ kind: 'range', draft: desk.draft, limit: 1000 }).then(
      (found) => (ranges = found.objects.map((it) => it.name)),
      () => {},
    )
    objects({ kind: 'check', draft: desk.draft, limit: 1000 }).then(
      (found) => (checks = found.objects.map((it) => it.name)),
      () => {},
    )
  })

  const isTyped = $derived(!made && JSON.stringify(it) !== JSON.stringify(EMPTY))
  $effect(() => unsaved.keep(KEY, 'a new service', isTyped ? { ...it } : null))

  const name = $derived(it.name.trim())
  const lines = $derived(it.servers.split('\n').filter((line) => line.trim() !== ''))
  const nameMistake = $derived(wrongName(name))
  const portMistake = $derived.by<Mistake | null>(() => {
    const port = it.place === 'range' && it.port.trim() !== '' ? wholeNumber(it.port, 1, 65535) : 0
    return typeof port === 'number' ? null : port
  })
  const missing = $derived([
    ...(name === '' ? ['Name'] : []),
    ...(it.place === 'own' ? (it.listen.trim() === '' ? ['Listen'] : []) : [...(it.range === '' ? ['Range'] : []), ...(it.port.trim() === '' ? ['Port'] : [])]),
    ...(lines.length === 0 ? ['Servers'] : []),
    ...(it.check === 'known' && it.known === '' ? ['Check'] : []),
  ])
  const wrong = $derived([nameMistake, portMistake].filter((mistake) => mistake !== null).length)
  const checkKeys = $derived.by<Keys | null>(() => {
    if (it.check === 'none' || it.check === 'known') return null
    if (it.check === 'http' || it.check === 'https') return { kind: 'http', path: it.path.trim() || '/', ...(it.check === 'https' ? { tls: 'verified' } : {}) }
    return { kind: it.check }
  })
  const edits = $derived.by<Edit[]>(() => {
    if (missing.length > 0 || wrong > 0) return []
    const judge = checkKeys ? name : it.check === 'known' ? it.known : null
    const taken = it.place === 'range'
    return [
      ...(checkKeys ? [{ do: 'add', object: `checks.${name}`, keys: checkKeys } as Edit] : []),
      { do: 'add', object: `pools.${name}`, keys: judge ? { check: judge } : {} },
      { do: 'add_servers', pool: name, lines: lines.join('\n') },
      ...(taken ? [{ do: 'reserve', range: it.range, name } as Edit] : []),
      {
        do: 'add',
        object: `frontends.${name}`,
        keys: { protocol: it.protocol, listen: taken ? `${it.range}/${name}:${it.port.trim()}` : it.listen.trim(), pool: name },
      },
    ]
  })
  const ofFrontend = $derived(byKey(outlook?.mistakes ?? [], `frontends.${name}`))
  const ofCheck = $derived(byKey(outlook?.mistakes ?? [], `checks.${name}`))
  const lineMistake = $derived<Mistake | null>(outlook?.mistakes.find((mistake) => mistake.path === 'lines') ?? null)

  const text = $derived(JSON.stringify(edits))
  async function attempt() {
    busy = true
    const asked = text
    const seen = await foresee(edits, false)
    busy = false
    tried = { text: asked, failed: seen.warnings.filter((warning) => ['check-fails', 'no-answer', 'no-answer-unchecked'].includes(warning.kind)) }
  }

  function done() {
    made = true
    unsaved.keep(KEY, '', null)
    void goOn('/new-service', desk.draft ? '/changes' : `/pools/${name}`)
  }
</script>

<Card>
  <h2 class="mb-1 text-base font-semibold">New service</h2>
  <p class="mb-3 text-secondary">A frontend, a pool of the same name, its servers and their check: one look, one revision.</p>
  {#if keptAt && isTyped}
    <p class="mb-2 rounded-box border border-warning px-2 py-1" data-testid="kept">
      <span class="text-warning">◆ What you typed at {clock(keptAt)} is still here</span> and not made yet. Go on with it, or
      <button type="button" class="btn btn-xs" onclick={() => (it = { ...EMPTY })}>Forget it</button>
    </p>
  {/if}
  <div class="grid gap-4 lg:grid-cols-2">
    <div class="min-w-0 space-y-3">
      <div class="grid gap-x-4 gap-y-2 sm:grid-cols-2">
        <div>
          <label class="block" for="service-name">Name</label>
          <input
            id="service-name"
            class="input input-sm w-full"
            autocomplete="off"
            bind:value={it.name}
            aria-invalid={nameMistake ? 'true' : undefined}
            aria-describedby="wrong-service-name"
          />
          <FieldNotes id="wrong-service-name" mistake={nameMistake} />
        </div>
        <div>
          <label class="block" for="service-protocol">Protocol</label>
          <select id="service-protocol" class="select select-sm w-full" bind:value={it.protocol}
            ><option>http</option><option>tcp</option><option>udp</option></select
          >
        </div>
      </div>
      <fieldset>
        <legend class="font-semibold">Where clients connect</legend>
        {#if ranges.length > 0}
          <div class="mb-1 flex gap-4">
            <label class="flex gap-2"><input type="radio" class="radio radio-xs" value="own" bind:group={it.place} /> an address of this machine</label>
            <label class="flex gap-2"><input type="radio" class="radio radio-xs" value="range" bind:group={it.place} /> the next free one of a range</label>
          </div>
        {/if}
        {#if it.place === 'own'}
          <label class="block" for="service-listen">Listen</label>
          <input
            id="service-listen"
            class="input input-sm w-full"
            autocomplete="off"
            placeholder="192.0.2.10:80"
            bind:value={it.listen}
            aria-invalid={ofFrontend.listen ? 'true' : undefined}
            aria-describedby="wrong-service-listen"
          />
          <FieldNotes id="wrong-service-listen" mistake={ofFrontend.listen ?? null} />
        {:else}
          <div class="grid grid-cols-2 gap-4">
            <label
              >Range<select class="select select-sm w-full" bind:value={it.range}
                ><option value="">choose one</option>{#each ranges as range (range)}<option>{range}</option>{/each}</select
              ></label
            >
            <label
              >Port<input
                class="input input-sm w-full"
                inputmode="numeric"
                placeholder="80"
                bind:value={it.port}
                aria-invalid={portMistake ? 'true' : undefined}
                aria-describedby="wrong-service-port"
              /></label
            >
          </div>
          <FieldNotes id="wrong-service-port" mistake={portMistake} />
        {/if}
      </fieldset>
      <div>
        <label class="block font-semibold" for="service-servers">Servers, a line each</label>
        <textarea
          id="service-servers"
          class="textarea w-full font-mono"
          rows="5"
          bind:value={it.servers}
          placeholder={'oak=192.0.2.21:80\nelm=192.0.2.22:80 3'}
          aria-invalid={lineMistake ? 'true' : undefined}
          aria-describedby="help-service-servers wrong-service-servers"></textarea>
        <p id="help-service-servers" class="text-secondary">
          name=address:port, perhaps with a weight behind it; address:port, host:port and first-last:port do too
        </p>
        <FieldNotes id="wrong-service-servers" mistake={lineMistake} />
      </div>
      <fieldset>
        <legend class="font-semibold">How servers are checked</legend>
        <div class="grid gap-x-4 gap-y-2 sm:grid-cols-2">
          <label
            >Check
            <select class="select select-sm w-full" bind:value={it.check}>
              {#each CHECKS as check (check)}<option>{check}</option>{/each}
              {#if checks.length > 0}<option value="known">one that there is</option>{/if}
              <option value="none">none: every server is taken to work</option>
            </select>
          </label>
          {#if it.check === 'known'}
            <label
              >Which<select class="select select-sm w-full" bind:value={it.known}
                ><option value="">choose one</option>{#each checks as check (check)}<option>{check}</option>{/each}</select
              ></label
            >
          {:else if it.check === 'http' || it.check === 'https'}
            <label
              >Path<input
                class="input input-sm w-full"
                autocomplete="off"
                bind:value={it.path}
                aria-invalid={ofCheck.path ? 'true' : undefined}
                aria-describedby="wrong-service-path"
              /></label
            >
          {/if}
        </div>
        <FieldNotes id="wrong-service-path" mistake={ofCheck.path ?? null} />
        <button type="button" class="btn btn-sm mt-2" disabled={busy || edits.length === 0} onclick={attempt}
          >{busy ? 'Trying …' : 'Try it on the servers'}</button
        >
        {#if tried && tried.text === text}
          <div class="mt-2" role="status" data-testid="tried">
            {#if tried.failed.length === 0}<p class="text-success">● Every server that is named passes.</p>{/if}
            {#each tried.failed as warning (warning.key)}<p class="text-error">✕ {warning.message}</p>{/each}
          </div>
        {:else}
          <p class="mt-1 text-secondary">One probe of each server, before anything is saved.</p>
        {/if}
      </fieldset>
    </div>
    <div class="min-w-0 rounded-box border border-base-300 bg-base-200 p-3">
      <h3 class="mb-2 font-semibold">What this does</h3>
      <GoLive {edits} missing={isTyped ? missing : []} {wrong} onseen={(seen) => (outlook = seen)} onmade={done} />
    </div>
  </div>
</Card>
