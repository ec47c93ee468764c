<script lang="ts">
  import Alert from './Alert.svelte'
  import { messages, tryMessage, words } from '../api/call'
  import type { SentMessage } from '../api/types'
  import { clock } from '../format/format'
  import { live } from '../live/live.svelte'

  // Messages that were sent to people and their deliveries; of one notification, or of all.
  let { name = '' }: { name?: string } = $props()

  const LIMIT = 50
  const SHOWN = 20
  let sent = $state.raw<SentMessage[]>([])
  let tried = $state.raw<SentMessage[]>([])
  let busy = $state(false)
  let trouble = $state('')

  /** How long after the next try of something that is on its way it is asked about again, at least. */
  const AGAIN_MS = 2000
  let turn = $state(0)

  $effect(() => {
    // At rest nothing is asked: only when something has happened, and while something is on its way.
    void live.facts[0]?.id
    void turn
    let current = true
    let again: ReturnType<typeof setTimeout> | undefined
    messages(LIMIT).then(
      (found) => {
        if (!current) return
        ;[sent, trouble] = [found.messages, '']
        const tries = found.messages.flatMap((it) => (it.next_try ? [Date.parse(it.next_try)] : []))
        if (tries.length > 0) again = setTimeout(() => (turn += 1), Math.max(0, Math.min(...tries) - Date.now()) + AGAIN_MS)
      },
      (error) => {
        if (current) trouble = words(error)
      },
    )
    return () => {
      current = false
      clearTimeout(again)
    }
  })

  const shown = $derived([...tried, ...sent.filter((it) => name === '' || it.name === name)].slice(0, SHOWN))

  async function send() {
    busy = true
    try {
      ;[tried, trouble] = [(await tryMessage(name)).messages, '']
    } catch (error) {
      trouble = words(error)
    }
    busy = false
  }
</script>

<section class="mb-4" aria-label="Sent">
  <div class="mb-1 flex items-center gap-3">
    <h3 class="font-semibold">Sent</h3>
    {#if name}<button class="btn btn-xs" disabled={busy} onclick={send}>{busy ? 'Sending …' : 'Send a try'}</button>{/if}
  </div>
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if shown.length === 0}
    <p class="text-secondary">Nothing was sent yet.</p>
  {:else}
    <table class="w-full" data-testid="sent">
      <tbody>
        {#each shown as it, index (index)}
          <tr class="border-t border-base-300 align-baseline">
            <td class="whitespace-nowrap py-0.5 pr-3">
              {#if it.delivered}<span class="text-success">✓ delivered</span>{:else if it.next_try}<span class="text-warning">… on its way</span>{:else}<span
                  class="text-error">✗ not delivered</span
                >{/if}
            </td>
            <td class="whitespace-nowrap pr-3">{clock(it.at)}</td>
            {#if !name}<td class="max-w-72 wrap-anywhere pr-3"><a class="link" href={`/notifications/${it.name}`}>{it.name}</a></td>{/if}
            <td class="pr-3">{it.via}</td>
            <td class="wrap-anywhere">
              {it.message}
              {#if it.why}<div class="text-secondary">try {it.tries}: {it.why}{it.next_try ? `; again at ${clock(it.next_try)}` : ''}</div>{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
</section>
