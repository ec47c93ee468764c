<script lang="ts">
  import { putWindow, words } from '../api/call'
  import type { WindowPlan } from '../api/types'
  import { announcement } from '../desk/announce.svelte'
  import { moment } from '../format/format'
  import Alert from './Alert.svelte'

  // A window to plan.
  let { onmade }: { onmade: () => void } = $props()

  const RULES = [
    ['', 'once'],
    ['FREQ=DAILY', 'every day'],
    ['FREQ=WEEKLY', 'every week, on the day of the start'],
    ['FREQ=WEEKLY;INTERVAL=2', 'every second week, on the day of the start'],
    ['FREQ=MONTHLY', 'every month, on the day of the start'],
    ['own', 'by a rule of RFC 5545 …'],
  ] as const

  let name = $state('')
  let by = $state<'servers' | 'host' | 'label'>('servers')
  let which = $state('')
  let start = $state('')
  let zone = $state(Intl.DateTimeFormat().resolvedOptions().timeZone)
  let length = $state('2h')
  let chosen = $state<string>('')
  let rule = $state('FREQ=WEEKLY;BYDAY=TU')
  let within = $state('')
  let pins = $state<'honour' | 'move'>('honour')
  let reason = $state('')
  let anyway = $state(false)
  let trouble = $state('')
  let busy = $state(false)

  const isWhole = $derived(/^[a-z][a-z0-9-]{0,62}$/.test(name) && which.trim() !== '' && start !== '' && reason.trim() !== '')
  const repeat = $derived(chosen === 'own' ? rule.trim() : chosen)

  function plan(): WindowPlan {
    const text = which.trim()
    const servers = by === 'servers' ? { servers: text.split(/[\s,]+/) } : by === 'host' ? { host: text } : { label: text }
    return {
      ...servers,
      start: start.length === 16 ? `${start}:00` : start,
      zone: zone.trim(),
      length: length.trim(),
      ...(repeat ? { repeat } : {}),
      ...(within.trim() ? { within: within.trim() } : {}),
      pins,
      reason: reason.trim(),
      anyway,
    }
  }

  async function make() {
    busy = true
    trouble = ''
    try {
      const made = await putWindow(name, plan())
      const next = made.window.times[0]
      announcement.say(`Window ${name} is planned${next ? `; it opens ${moment(next.start)}` : ''}.`)
      onmade()
    } catch (error) {
      trouble = words(error)
    }
    busy = false
  }
</script>

<form
  onsubmit={(event) => {
    event.preventDefault()
    if (isWhole) void make()
  }}
>
  <div class="grid gap-3 sm:grid-cols-2 lg:grid-cols-4">
    <div>
      <label class="mb-1 block" for="window-name">Name</label>
      <input id="window-name" class="input w-full" bind:value={name} placeholder="tuesday-night" autocomplete="off" />
      <p class="mt-1 text-secondary">a window of this name is replaced</p>
    </div>
    <div>
      <label class="mb-1 block" for="window-by">For</label>
      <select id="window-by" class="select w-full" bind:value={by}>
        <option value="servers">servers</option>
        <option value="host">a host</option>
        <option value="label">all with a label</option>
      </select>
    </div>
    <div class="sm:col-span-2">
      <label class="mb-1 block" for="window-which">{by === 'servers' ? 'Servers' : by === 'host' ? 'Host' : 'Label'}</label>
      <input
        id="window-which"
        class="input w-full"
        bind:value={which}
        placeholder={by === 'servers' ? 'booking/gull, tickets/gull' : by === 'host' ? 'gull, or 192.0.2.21' : 'rack=r7'}
        autocomplete="off"
      />
    </div>
    <div>
      <label class="mb-1 block" for="window-start">First start</label>
      <input id="window-start" type="datetime-local" class="input w-full" bind:value={start} />
      <p class="mt-1 text-secondary">as clocks in the zone show it</p>
    </div>
    <div>
      <label class="mb-1 block" for="window-zone">Time zone</label>
      <input id="window-zone" class="input w-full" bind:value={zone} placeholder="Europe/Oslo" />
    </div>
    <div>
      <label class="mb-1 block" for="window-length">Length</label>
      <input id="window-length" class="input w-full" bind:value={length} />
      <p class="mt-1 text-secondary">1m to 7d</p>
    </div>
    <div>
      <label class="mb-1 block" for="window-repeat">Repeats</label>
      <select id="window-repeat" class="select w-full" bind:value={chosen}>
        {#each RULES as [value, words] (value)}<option {value}>{words}</option>{/each}
      </select>
      {#if chosen === 'own'}<input class="input mt-1 w-full font-mono" aria-label="Recurrence rule" bind:value={rule} />{/if}
    </div>
    <div>
      <label class="mb-1 block" for="window-within">Drain before</label>
      <input id="window-within" class="input w-full" bind:value={within} placeholder="10m" />
      <p class="mt-1 text-secondary">what is open at the start is closed; empty: as the pools say, or 10m</p>
    </div>
    <div>
      <label class="mb-1 block" for="window-pins">Pinned clients</label>
      <select id="window-pins" class="select w-full" bind:value={pins}>
        <option value="honour">go on until the start</option>
        <option value="move">go elsewhere at once</option>
      </select>
    </div>
    <div class="sm:col-span-2">
      <label class="mb-1 block" for="window-reason">Reason</label>
      <input id="window-reason" class="input w-full" maxlength="500" bind:value={reason} placeholder="updates of the system, ticket 4711" />
    </div>
  </div>
  {#if trouble}<Alert class="mt-2">{trouble}</Alert>{/if}
  <div class="mt-3 flex flex-wrap items-center gap-4">
    <button class="btn btn-primary btn-sm" disabled={!isWhole || busy}>Plan it</button>
    <label class="flex items-center gap-2">
      <input type="checkbox" class="checkbox checkbox-xs" bind:checked={anyway} />
      also when the guard speaks against it
    </label>
  </div>
</form>
