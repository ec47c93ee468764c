<script lang="ts">
  import { addsServers, desk, foresee, make, open, type Outlook } from '../desk/desk.svelte'
  import type { Edit } from '../api/types'
  import { live } from '../live/live.svelte'
  import { announcement } from '../desk/announce.svelte'
  import Consequences from './Consequences.svelte'

  // The consequences of some edits, as they are typed, and the button that makes them.
  let {
    edits,
    verb = 'Apply',
    basedOn,
    missing = [],
    wrong = 0,
    id,
    onseen,
    onmade,
  }: {
    edits: Edit[]
    verb?: string
    basedOn?: number | undefined
    /** What has still to be filled in. */
    missing?: string[]
    /** How many mistakes stand at fields. */
    wrong?: number
    /** The form's id: Enter in a field with it as its form applies the edits. */
    id?: string
    /** Is given what the service says of the edits. */
    onseen?: (outlook: Outlook) => void
    onmade: () => void
  } = $props()

  const WAIT_MS = 250

  let outlook = $state.raw<Outlook | null>(null)
  let refusal = $state.raw<Outlook | null>(null)
  let accept = $state<string[]>([])
  let note = $state('')
  let withdrawn = $state(false)
  let busy = $state(false)
  const text = $derived(JSON.stringify([edits, desk.draft, withdrawn]))

  $effect(() => {
    void text
    // What runs may change meanwhile, and with it what this would do.
    void live.changes
    refusal = null
    const [asked, away] = [edits, withdrawn]
    let current = true
    const timer = setTimeout(async () => {
      // What is on its way is not asked about once more: when it has been made, it would be there twice.
      if (busy) return
      const seen = await foresee(asked, true, away)
      if (current) outlook = seen
    }, WAIT_MS)
    return () => {
      current = false
      clearTimeout(timer)
    }
  })

  const shown = $derived(refusal ?? outlook)
  $effect(() => {
    if (shown) onseen?.(shown)
  })
  const unaccepted = $derived(desk.draft ? [] : open(shown?.warnings ?? []).filter((it) => !accept.includes(it.key)))
  const blocked = $derived(busy || edits.length === 0 || wrong > 0 || unaccepted.length > 0 || (refusal === null && outlook !== null && outlook.trouble !== ''))

  async function go(event: SubmitEvent) {
    event.preventDefault()
    if (blocked) return
    busy = true
    const inTheWay = await make(edits, { note, accept, withdrawn, ...(basedOn === undefined ? {} : { based_on: basedOn }) })
    busy = false
    if (inTheWay) refusal = inTheWay
    else {
      note = ''
      accept = []
      withdrawn = false
      announcement.say(desk.draft ? `The change is in draft ${desk.draft}.` : 'The change is applied.')
      onmade()
    }
  }
</script>

<form {id} class="space-y-3" onsubmit={go}>
  {#if edits.length === 0 && wrong > 0}
    <p class="text-secondary">Nothing goes live while something is wrong.</p>
  {:else if edits.length === 0}
    <p class="text-secondary">{missing.length > 0 ? `Still to be filled in: ${missing.join(', ')}.` : 'Nothing is changed yet.'}</p>
  {:else if shown}
    <Consequences outlook={shown} bind:accept canAccept={!desk.draft} />
  {:else}
    <p class="text-secondary">Asking what this would do …</p>
  {/if}
  {#if !desk.draft && addsServers(shown?.changes ?? [])}
    <label class="flex items-center gap-2">
      <input type="checkbox" class="checkbox checkbox-sm" bind:checked={withdrawn} />
      New servers join withdrawn: they can be tried, and get clients when they are returned
    </label>
  {/if}
  <div class="flex flex-wrap items-end gap-2 border-t border-base-300 pt-3">
    {#if !desk.draft}
      <label class="min-w-40 grow">
        <span class="text-secondary">Why (kept with the revision)</span>
        <input class="input input-sm w-full" maxlength="500" bind:value={note} />
      </label>
    {/if}
    <button class="btn btn-primary btn-sm" type="submit" disabled={blocked}>
      {desk.draft ? `Put into draft ${desk.draft}` : verb}
    </button>
  </div>
  {#if wrong > 0}
    <p class="text-error">✕ {wrong === 1 ? 'One mistake stands at its field.' : `${wrong} mistakes stand at their fields.`}</p>
  {/if}
  {#if unaccepted.length > 0}
    <p class="text-warning">▲ {unaccepted.length === 1 ? 'One warning has' : `${unaccepted.length} warnings have`} to be accepted first.</p>
  {/if}
</form>
