<script lang="ts">
  import DataTable from '../lib/components/DataTable.svelte'
  import { useAnswer } from '../lib/api/useAnswer'
  import Alert from '../lib/components/Alert.svelte'
  import { beginDraft, compare, drafts, revisions, words } from '../lib/api/call'
  import type { Between, Draft, RevisionHead } from '../lib/api/types'
  import Changes from '../lib/components/Changes.svelte'
  import { desk } from '../lib/desk/desk.svelte'
  import { ago, moment } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'
  import { goOn } from '../lib/desk/goOn'

  const PAGE = 25

  let known = $state.raw<Draft[] | null>(null)
  let made = $state.raw<RevisionHead[] | null>(null)
  let more = $state(true)
  let trouble = $state('')
  let name = $state('')
  let note = $state('')
  let refusal = $state('')
  let from = $state<number | null>(null)
  let to = $state<number | null>(null)
  let between = $state.raw<Between | null>(null)

  $effect(() => {
    void desk.made
    void live.changes
    return useAnswer(
      Promise.all([drafts(), revisions(null, PAGE)]),
      ([found, newest]) => {
        known = found.drafts
        made = newest.revisions
        more = newest.revisions.length === PAGE
        trouble = ''
      },
      (error) => {
        ;[trouble, known, made] = [words(error), null, null]
      },
    )
  })

  $effect(() => {
    between = null
    const [older, newer] = [from, to]
    if (older === null || newer === null || older === newer) return
    compare(Math.min(older, newer), Math.max(older, newer)).then(
      (found) => (between = found),
      (error) => (trouble = words(error)),
    )
  })

  async function begin(event: SubmitEvent) {
    event.preventDefault()
    refusal = ''
    try {
      await beginDraft(name.trim(), note.trim())
      desk.made += 1
      desk.choose(name.trim())
      await goOn('/changes', `/changes/drafts/${name.trim()}`)
    } catch (error) {
      refusal = words(error)
    }
  }

  async function older() {
    const last = made?.at(-1)
    if (!made || !last) return
    const found = await revisions(last.number, PAGE)
    made = [...made, ...found.revisions]
    more = found.revisions.length === PAGE
  }
</script>

<div class="grid grid-cols-[minmax(0,1fr)] gap-3 lg:grid-cols-[22rem_minmax(0,1fr)]">
  <section class="rounded-box border border-base-300 bg-base-100 p-3" aria-labelledby="drafts-title">
    <h2 id="drafts-title" class="mb-1 text-base font-semibold">Drafts</h2>
    <p class="mb-2 text-secondary">Several changes gather in a draft, are reviewed, and go live as one revision.</p>
    <ul class="mb-3" data-testid="drafts">
      {#each known ?? [] as it (it.name)}
        <li class="border-t border-base-300 py-1 first:border-0">
          <a class="link font-semibold" href={`/changes/drafts/${it.name}`}>{it.name}</a>
          {#if desk.draft === it.name}<span class="text-warning">◆ changes go here</span>{/if}
          <div class="text-secondary">
            by {it.owner}, from revision {it.base}{it.stale ? ', ▲ to be rebased' : ''}{live.status ? `, changed ${ago(it.changed, live.status.at)} ago` : ''}
          </div>
          {#if it.note}<div>{it.note}</div>{/if}
        </li>
      {:else}
        <li class="text-secondary">{known ? 'There are none.' : trouble ? 'They can’t be read now.' : 'Asking the service …'}</li>
      {/each}
    </ul>
    <form class="space-y-2 border-t border-base-300 pt-2" onsubmit={begin}>
      <label class="block"
        >New draft<input class="input input-sm w-full" autocomplete="off" bind:value={name} maxlength="63" required placeholder="autumn-timetable" /></label
      >
      <label class="block">What it is for<input class="input input-sm w-full" bind:value={note} maxlength="500" /></label>
      {#if refusal}<Alert>{refusal}</Alert>{/if}
      <button class="btn btn-primary btn-sm" type="submit">Create draft</button>
    </form>
  </section>
  <section class="rounded-box border border-base-300 bg-base-100 p-3" aria-labelledby="revisions-title">
    <h2 id="revisions-title" class="mb-1 text-base font-semibold">Revisions</h2>
    {#if trouble}<Alert>{trouble}</Alert>{/if}
    {#if between}
      <div class="mb-3 rounded-box border border-base-300 bg-base-200 p-3">
        <div class="flex justify-between">
          <h3 class="mb-1 font-semibold">From revision {between.from} to {between.to}</h3>
          <button
            class="btn btn-ghost btn-xs"
            onclick={() => {
              from = null
              to = null
            }}>Close</button
          >
        </div>
        {#if between.changes.length === 0}<p class="text-secondary">Nothing: they have the same content.</p>{/if}
        <Changes changes={between.changes} />
      </div>
    {:else if from !== null || to !== null}
      <p class="mb-2 text-secondary">Choose a second revision to compare with.</p>
    {/if}
    <div class="relative overflow-x-auto">
      <DataTable columns={['compare: from, to', 'revision', 'made', 'author', 'what changed', 'note']} testid="revisions">
        {#each made ?? [] as it (it.number)}
          <tr class="hover:bg-base-200">
            <td class="pr-3">
              <input type="radio" class="radio radio-xs" name="from" aria-label={`Compare from ${it.number}`} value={it.number} bind:group={from} />
              <input type="radio" class="radio radio-xs" name="to" aria-label={`Compare to ${it.number}`} value={it.number} bind:group={to} />
            </td>
            <th scope="row" class="py-1 pr-3 text-left font-semibold">
              <a class="link" href={`/changes/revisions/${it.number}`}>{it.number}</a>
              {#if it.running}<span class="font-normal text-success">● runs</span>{/if}
            </th>
            <td class="whitespace-nowrap pr-3">{moment(it.at)}</td>
            <td class="pr-3">{it.author}</td>
            <td class="pr-3">{it.changed}</td>
            <td
              >{it.note}{#if it.accepted.length > 0}<span class="text-secondary"> · accepted: {it.accepted.map((one) => one.key).join(', ')}</span>{/if}</td
            >
          </tr>
        {:else}
          <tr><td colspan="6" class="text-secondary">{made ? 'Nothing was applied yet.' : trouble ? 'They can’t be read now.' : 'Asking the service …'}</td></tr
          >
        {/each}
      </DataTable>
    </div>
    {#if more && made && made.length > 0}<button class="btn btn-xs mt-2" onclick={older}>Older ones</button>{/if}
  </section>
</div>
