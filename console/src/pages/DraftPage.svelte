<script lang="ts">
  import { useAnswer } from '../lib/api/useAnswer'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import { deployDraft, discardDraft, draft, editDraft, rebaseDraft, words } from '../lib/api/call'
  import type { DraftReview } from '../lib/api/types'
  import Dialog from '../lib/components/Dialog.svelte'
  import Consequences from '../lib/components/Consequences.svelte'
  import { addsServers, desk, open, type Outlook } from '../lib/desk/desk.svelte'
  import { moment } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'
  import { goOn } from '../lib/desk/goOn'
  import { route } from '../router'

  const name = $derived(route.pathname.split('/')[3] ?? '')
  let seen = $state.raw<DraftReview | null>(null)
  let trouble = $state('')
  let note = $state<string | null>(null)
  let accept = $state<string[]>([])
  let busy = $state(false)
  let asking = $state(false)
  /** It was deployed or thrown away from here: there is nothing to ask for any more. */
  let gone = $state(false)
  /** The last question about it: what is asked before it goes is answered before it goes. */
  let asked: Promise<unknown> = Promise.resolve()

  $effect(() => {
    void desk.made
    void live.changes
    if (gone) return
    const answer = draft(name)
    asked = answer.catch(() => {})
    return useAnswer(
      answer,
      (found) => {
        seen = found
      },
      (error) => {
        ;[seen, trouble] = [null, words(error)]
      },
    )
  })

  // A warning that is ticked is accepted in the draft at once, for the person who deploys it.
  $effect(() => {
    if (accept.length > 0) {
      const keys = accept
      accept = []
      void act(async () => (seen = await editDraft(name, [], { accept: keys })))
    }
  })

  const outlook = $derived<Outlook | null>(
    seen && {
      changes: seen.changes,
      review: seen.review,
      mistakes: seen.mistakes,
      trouble: '',
      warnings: seen.review?.warnings ?? [],
      between: seen.between,
    },
  )
  const ready = $derived(
    seen !== null && !seen.draft.stale && seen.mistakes.length === 0 && seen.changes.length > 0 && open(seen.review?.warnings ?? []).length === 0,
  )

  async function act(work: () => Promise<unknown>) {
    busy = true
    trouble = ''
    try {
      await work()
    } catch (error) {
      trouble = words(error)
      gone = false
    }
    busy = false
  }

  let withdrawn = $state(false)
  const deploy = () =>
    act(async () => {
      const here = location.pathname
      gone = true
      await asked
      const review = await deployDraft(name, { note: note ?? seen?.draft.note ?? '', withdrawn })
      desk.choose(null)
      desk.made += 1
      await goOn(here, `/changes/revisions/${review.revision}`)
    })
  const rebase = () => act(async () => (seen = await rebaseDraft(name)))
  const discard = () =>
    act(async () => {
      const here = location.pathname
      gone = true
      await asked
      await discardDraft(name)
      if (desk.draft === name) desk.choose(null)
      desk.made += 1
      await goOn(here, '/changes')
    })
</script>

<Card>
  <div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold"><a class="link text-secondary" href="/changes">Changes</a> / draft {name}</h2>
    {#if seen}
      <span class="text-secondary">by {seen.draft.owner}, from revision {seen.draft.base}, changed {moment(seen.draft.changed)}</span>
      <div class="ml-auto flex gap-1">
        {#if desk.draft === name}
          <button class="btn btn-xs" onclick={() => desk.choose(null)}>Stop working in it</button>
        {:else}
          <button class="btn btn-xs" onclick={() => desk.choose(name)}>Work in it</button>
        {/if}
        <button class="btn btn-xs" disabled={busy} onclick={() => (asking = true)}>Throw it away …</button>
      </div>
    {/if}
  </div>
  {#if trouble}<Alert class="mb-3">{trouble}</Alert>{/if}
  {#if seen && outlook}
    {#if seen.draft.stale}
      <p class="mb-3 rounded-box border border-warning px-2 py-1">
        <span class="text-warning">▲ Others were faster:</span> revision {seen.between?.to ?? live.status?.revision.number} runs by now.
        <button class="btn btn-xs" disabled={busy} onclick={rebase}>Let it begin from what runs now</button>
      </p>
    {/if}
    {#if seen.changes.length === 0}
      <p class="text-secondary">
        It changes nothing yet. While “Apply to” above says “draft {name}”, what you change on the other pages gathers here.
      </p>
    {/if}
    <Consequences {outlook} bind:accept />
    {#if addsServers(seen.changes)}
      <label class="mt-3 flex items-center gap-2">
        <input type="checkbox" class="checkbox checkbox-sm" bind:checked={withdrawn} />
        New servers join withdrawn: they can be tried, and get clients when they are returned
      </label>
    {/if}
    <div class="mt-3 flex flex-wrap items-end gap-2 border-t border-base-300 pt-3">
      <label class="min-w-64 grow">
        <span class="text-secondary">Why (kept with the revision)</span>
        <input class="input input-sm w-full" maxlength="500" value={note ?? seen.draft.note} oninput={(event) => (note = event.currentTarget.value)} />
      </label>
      <button class="btn btn-primary btn-sm" disabled={!ready || busy} onclick={deploy}>Deploy it</button>
    </div>
    {#if open(seen.review?.warnings ?? []).length > 0}<p class="mt-1 text-warning">▲ Warnings have to be accepted first.</p>{/if}
  {/if}
</Card>

{#if asking && seen}
  <Dialog title={`Throw draft ${name} away?`} onclose={() => (asking = false)}>
    <p class="mb-3">
      {seen.changes.length === 1 ? 'One change is' : `${seen.changes.length} changes are`} lost with it, by {seen.draft.owner}{seen.draft.note
        ? `: ${seen.draft.note}`
        : ''}. This can’t be undone.
    </p>
    <div class="flex gap-2">
      <button
        class="btn btn-error btn-sm"
        disabled={busy}
        onclick={() => {
          asking = false
          void discard()
        }}>Throw it away</button
      >
      <button class="btn btn-sm" onclick={() => (asking = false)}>Keep it</button>
    </div>
  </Dialog>
{/if}
