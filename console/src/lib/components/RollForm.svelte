<script lang="ts">
  import { beginRoll, words } from '../api/call'
  import type { Roll, RollPlan } from '../api/types'
  import { announcement } from '../desk/announce.svelte'
  import { live } from '../live/live.svelte'
  import Alert from './Alert.svelte'

  // A roll to begin: first it is shown what it would do.
  let { onmade }: { onmade: () => void } = $props()

  let by = $state<'pool' | 'servers' | 'host' | 'label'>('pool')
  let which = $state('')
  let atOnce = $state(1)
  let soak = $state('2m')
  let within = $state('')
  let pins = $state<'honour' | 'move'>('honour')
  let reason = $state('')
  let returnWithin = $state('')
  let anyway = $state(false)
  let planned = $state.raw<Roll | null>(null)
  let trouble = $state('')
  let busy = $state(false)

  const pools = $derived(live.status?.pools.map((pool) => pool.name) ?? [])
  const isWhole = $derived(which.trim() !== '' && reason.trim() !== '' && atOnce >= 1)
  // Another plan has to be shown first.
  $effect(() => {
    void [by, which, atOnce, soak, within, returnWithin, pins, reason, anyway]
    planned = null
  })

  function plan(): RollPlan {
    const text = which.trim()
    const servers = by === 'servers' ? { servers: text.split(/[\s,]+/) } : { [by]: text }
    return {
      ...servers,
      at_once: atOnce,
      ...(soak.trim() ? { soak: soak.trim() } : {}),
      ...(within.trim() ? { within: within.trim() } : {}),
      pins,
      reason: reason.trim(),
      ...(returnWithin.trim() ? { return_within: returnWithin.trim() } : {}),
      anyway,
    }
  }

  async function ask(preview: boolean) {
    busy = true
    trouble = ''
    try {
      const roll = await beginRoll(plan(), preview)
      if (preview) planned = roll
      else {
        announcement.say(`Roll ${roll.id} has begun.`)
        onmade()
      }
    } catch (error) {
      trouble = words(error)
    }
    busy = false
  }
</script>

<form
  onsubmit={(event) => {
    event.preventDefault()
    if (isWhole) void ask(planned === null)
  }}
>
  <div class="grid gap-3 sm:grid-cols-2 lg:grid-cols-4">
    <div>
      <label class="mb-1 block" for="roll-by">Over</label>
      <select id="roll-by" class="select w-full" bind:value={by} onchange={() => (which = '')}>
        <option value="pool">a pool</option>
        <option value="servers">servers</option>
        <option value="host">a host</option>
        <option value="label">all with a label</option>
      </select>
    </div>
    <div>
      <label class="mb-1 block" for="roll-which">{{ pool: 'Pool', servers: 'Servers', host: 'Host', label: 'Label' }[by]}</label>
      <input
        id="roll-which"
        class="input w-full"
        bind:value={which}
        list={by === 'pool' ? 'roll-pools' : undefined}
        placeholder={{ pool: 'booking', servers: 'booking/gull, booking/tern', host: 'gull', label: 'rack=r7' }[by]}
        autocomplete="off"
      />
      <datalist id="roll-pools"
        >{#each pools as pool (pool)}<option value={pool}></option>{/each}</datalist
      >
    </div>
    <div>
      <label class="mb-1 block" for="roll-at-once">At once</label>
      <input id="roll-at-once" type="number" min="1" max="100" class="input w-full" bind:value={atOnce} />
    </div>
    <div>
      <label class="mb-1 block" for="roll-soak">Watch after return</label>
      <input id="roll-soak" class="input w-full" bind:value={soak} placeholder="2m" />
      <p class="mt-1 text-secondary">and compare with the others; empty: not at all</p>
    </div>
    <div>
      <label class="mb-1 block" for="roll-within">Drain within</label>
      <input id="roll-within" class="input w-full" bind:value={within} placeholder="10m" />
      <p class="mt-1 text-secondary">then what is open is closed; empty: as the pool says</p>
    </div>
    <div>
      <label class="mb-1 block" for="roll-pins">Pinned clients</label>
      <select id="roll-pins" class="select w-full" bind:value={pins}>
        <option value="honour">go on until the deadline</option>
        <option value="move">go elsewhere at once</option>
      </select>
    </div>
    <div>
      <label class="mb-1 block" for="roll-return-within">Return within</label>
      <input id="roll-return-within" class="input w-full" bind:value={returnWithin} placeholder="10m" />
      <p class="mt-1 text-secondary">then the roll stops</p>
    </div>
    <div>
      <label class="mb-1 block" for="roll-reason">Reason</label>
      <input id="roll-reason" class="input w-full" maxlength="500" bind:value={reason} placeholder="updates of the system, ticket 4711" />
    </div>
  </div>
  <label class="mt-2 flex items-center gap-2">
    <input type="checkbox" class="checkbox checkbox-xs" bind:checked={anyway} />
    also when the guard speaks against it
  </label>
  {#if trouble}<Alert class="mt-2">{trouble}</Alert>{/if}
  {#if planned}
    <div class="mt-3 rounded-box border border-base-300 bg-base-200 p-3" aria-live="polite" data-testid="roll-plan">
      <p>
        {planned.servers.length} servers, {atOnce} at once: {planned.servers.map((it) => it.server).join(', ')}. Each is drained, worked on and reported here,
        returned, and
        {soak.trim() ? `watched for ${soak.trim()}` : 'waited for until it is up at its full share'} before the next.
      </p>
      {#each planned.guard ?? [] as said (said)}<p class="text-warning">▲ The guard says now: {said}. The roll would wait until that is no longer so.</p>{/each}
    </div>
  {/if}
  <div class="mt-3 flex gap-2">
    {#if planned}<button class="btn btn-primary btn-sm" disabled={busy}>Begin the roll</button>
    {:else}<button class="btn btn-sm" disabled={!isWhole || busy}>Show the plan</button>{/if}
  </div>
</form>
