<script lang="ts">
  import { useAnswer } from '../lib/api/useAnswer'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import { CallError, revert, revision, words } from '../lib/api/call'
  import type { Change, Review, RevisionHead } from '../lib/api/types'
  import Changes from '../lib/components/Changes.svelte'
  import Consequences from '../lib/components/Consequences.svelte'
  import { desk, open, type Outlook } from '../lib/desk/desk.svelte'
  import { moment } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'
  import { goOn } from '../lib/desk/goOn'
  import { route } from '../router'

  const number = $derived(Number(route.pathname.split('/')[3]))
  let head = $state.raw<RevisionHead | null>(null)
  let changes = $state.raw<Change[]>([])
  let text = $state('')
  let trouble = $state('')
  let back = $state.raw<Review | null>(null)
  let accept = $state<string[]>([])
  let note = $state('')

  $effect(() => {
    void live.changes
    return useAnswer(
      revision(number),
      (found) => {
        ;[head, changes, text, trouble] = [found.revision, found.changes, found.document, '']
      },
      (error) => {
        trouble = words(error)
      },
    )
  })

  const outlook = $derived<Outlook | null>(back && { changes: back.changes, review: back, mistakes: [], trouble: '', warnings: back.warnings, between: null })
  const missing = $derived(open(back?.warnings ?? []).filter((it) => !accept.includes(it.key)))

  async function look() {
    try {
      back = await revert(number, { preview: true })
    } catch (error) {
      trouble = words(error)
    }
  }

  async function go() {
    const here = location.pathname
    try {
      const done = await revert(number, { note, accept })
      desk.made += 1
      back = null
      await goOn(here, `/changes/revisions/${done.revision}`)
    } catch (error) {
      trouble = words(error)
      if (error instanceof CallError && error.between) back = null
    }
  }
</script>

<Card>
  <div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold"><a class="link text-secondary" href="/changes">Changes</a> / revision {number}</h2>
    {#if head}
      {#if head.running}<span class="text-success">● runs</span>{/if}
      <span class="text-secondary">by {head.author}, {moment(head.at)}</span>
      {#if !head.running}<button class="btn btn-xs ml-auto" onclick={look}>Go back to it …</button>{/if}
    {/if}
  </div>
  {#if trouble}<Alert class="mb-3">{trouble}</Alert>{/if}
  {#if outlook}
    <section class="mb-4 rounded-box border border-base-300 bg-base-200 p-3" aria-label="Going back">
      <h3 class="mb-2 font-semibold">Going back to revision {number}</h3>
      {#if outlook.changes.length === 0}<p class="text-secondary">What runs has this content already.</p>{/if}
      <Consequences {outlook} bind:accept />
      <div class="mt-3 flex flex-wrap items-end gap-2">
        <label class="min-w-64 grow"
          ><span class="text-secondary">Why</span><input
            class="input input-sm w-full"
            maxlength="500"
            bind:value={note}
            placeholder={`back to revision ${number}`}
          /></label
        >
        <button class="btn btn-primary btn-sm" disabled={outlook.changes.length === 0 || missing.length > 0} onclick={go}>Go back to it</button>
        <button class="btn btn-sm" onclick={() => (back = null)}>Leave it</button>
      </div>
    </section>
  {/if}
  {#if head}
    {#if head.note}<p class="mb-2">{head.note}</p>{/if}
    <h3 class="mb-1 font-semibold">What it changed</h3>
    {#if changes.length === 0}<p class="text-secondary">Nothing.</p>{/if}
    <Changes {changes} />
    {#each head.accepted as it (it.key)}
      <p class="mt-2">▲ accepted by {it.who}: {it.message} <span class="text-secondary">({it.key})</span></p>
    {/each}
    <details class="mt-3">
      <summary class="cursor-pointer font-semibold">Its document</summary>
      <pre class="mt-1 max-h-96 overflow-auto rounded-box bg-base-200 p-2">{text}</pre>
    </details>
  {/if}
</Card>
