<script lang="ts">
  import Alert from './Alert.svelte'
  import { certificates, orderCertificate, words } from '../api/call'
  import { useAnswer } from '../api/useAnswer'
  import type { Certificate } from '../api/types'
  import { months } from '../format/strip'
  import { live } from '../live/live.svelte'

  // What clients are shown: a line for each certificate, over the next year.
  const DAYS = 365
  /** As many days before its end a certificate is worth a look. */
  const SOON = 14

  let found = $state.raw<Certificate[] | null>(null)
  let trouble = $state('')
  $effect(() => {
    void live.changes
    void live.facts[0]?.id
    return useAnswer(
      certificates(),
      (answer) => {
        ;[found, trouble] = [answer.certificates, '']
      },
      (error) => {
        trouble = words(error)
      },
    )
  })

  let busy = $state('')
  async function order(it: Certificate) {
    busy = it.name
    try {
      const made = await orderCertificate(it.name, it.not_after !== null)
      found = (found ?? []).map((known) => (known.name === made.name ? made : known))
      trouble = ''
    } catch (error) {
      trouble = words(error)
    }
    busy = ''
  }
  function renewal(it: Certificate): string {
    if (it.is_being_ordered || busy === it.name) return `being ordered from ${it.authority} now`
    if (it.next_order === null) return `ordered from ${it.authority} within seconds`
    return `${it.not_after === null ? 'ordered' : 'renewed'} from ${it.authority} at ${it.next_order.slice(0, 16).replace('T', ' ')}`
  }

  const now = $derived(live.status?.at ?? new Date().toISOString())
  const marks = $derived(months(now, DAYS))
  function shownBy(it: Certificate): string {
    const by = it.frontends.length > 0 ? [`shown by ${it.frontends.join(', ')}`] : []
    const to = it.pools.length > 0 ? [`shown to servers of ${it.pools.join(', ')}`] : []
    return [...by, ...to].join(' and ') || 'no frontend shows it'
  }
  const left = (it: Certificate) => Math.max(0, Math.min(100, ((it.days_left ?? 0) / DAYS) * 100))
  function sign(it: Certificate): { mark: string; colour: string; bar: string; says: string } {
    if (it.problem) return { mark: '✕', colour: 'text-error', bar: 'bg-error', says: it.problem }
    const days = it.days_left ?? 0
    const until = `until ${(it.not_after ?? '').slice(0, 10)}, ${days} days`
    if (days <= SOON) return { mark: '▲', colour: 'text-warning', bar: 'bg-warning', says: until }
    return { mark: '●', colour: 'text-success', bar: 'bg-primary', says: it.is_self_signed ? `${until}; made here, so clients warn` : until }
  }
</script>

{#if trouble}<Alert>{trouble}</Alert>{/if}
{#if found && found.length > 0}
  <section class="mb-4" aria-label="What clients are shown" data-testid="certificates">
    <div class="relative ml-64 h-5 text-secondary" aria-hidden="true">
      {#each marks as mark (mark.name)}<span class="absolute border-l border-base-300 pl-1" style={`left: ${mark.left}%`}>{mark.name}</span>{/each}
    </div>
    {#each found as it (it.name)}
      {@const says = sign(it)}
      <div class="flex items-center border-t border-base-300 py-1" data-certificate={it.name}>
        <a class="link w-64 shrink-0 truncate pr-2 font-semibold" href={`/certificates/${it.name}`}>{it.name}</a>
        <span class="grow">
          <span class="relative block h-2 bg-base-200" aria-hidden="true">
            <span class={['absolute inset-y-0 left-0 rounded-sm', says.bar]} style={`width: ${left(it)}%`}></span>
          </span>
          <span><span class={says.colour}>{says.mark}</span> {says.says}</span>
          <span class="text-secondary">
            · for {it.names.join(', ') || 'no name'} · {shownBy(it)}
          </span>
          {#if it.authority}
            <span class="text-secondary">· {renewal(it)}</span>
            <button class="btn btn-xs ml-1" disabled={busy !== '' || it.is_being_ordered} onclick={() => order(it)} data-testid="order-certificate"
              >{it.not_after === null ? 'Order now' : 'Renew now'}</button
            >
          {/if}
          {#if it.order_failure}<span class="block"><span class="text-error">✕</span> the last order failed: {it.order_failure}</span>{/if}
        </span>
      </div>
    {/each}
  </section>
{/if}
