<script lang="ts">
  import Alert from './Alert.svelte'
  import { tryCheck, words } from '../api/call'
  import type { Keys, TryAnswer } from '../api/types'
  import { micros } from '../format/format'
  import { live } from '../live/live.svelte'

  // Runs a check once, as it stands in the form: before it is saved, and before it can hurt.
  let { name, keys, usedBy }: { name: string; keys: Keys; usedBy: string[] } = $props()

  const FEW = 3
  const STEPS = [
    ['connect', 'port'],
    ['tls', 'TLS'],
    ['answer', 'answer'],
    ['status', 'status'],
    ['body', 'content'],
    ['done', 'verdict'],
  ] as const

  let typed = $state<string | null>(null)
  let answer = $state.raw<TryAnswer | null>(null)
  let busy = $state(false)
  let trouble = $state('')

  /** Some servers of the pools that use the check, or of any. */
  const usual = $derived.by(() => {
    const pools = live.status?.pools ?? []
    const using = pools.filter((pool) => usedBy.includes(`pools.${pool.name}`))
    return (using.length > 0 ? using : pools)
      .flatMap((pool) => pool.servers.map((it) => it.server))
      .slice(0, FEW)
      .join(' ')
  })
  const servers = $derived(typed ?? usual)

  async function run() {
    busy = true
    try {
      ;[answer, trouble] = [await tryCheck(name.trim() || 'new', servers.trim().split(/[\s,]+/), keys), '']
    } catch (error) {
      ;[answer, trouble] = [null, words(error)]
    }
    busy = false
  }
</script>

<section class="mt-4 border-t border-base-300 pt-3" aria-label="Try it">
  <h3 class="mb-1 font-semibold">Try it, as it stands here</h3>
  <div class="flex flex-wrap items-end gap-2">
    <label class="grow"
      >on servers <input
        class="input input-sm w-full"
        value={servers}
        oninput={(event) => (typed = event.currentTarget.value)}
        placeholder="booking/gull booking/tern"
      /></label
    >
    <button class="btn btn-primary btn-sm" disabled={busy || servers.trim() === ''} onclick={run}>{busy ? 'Asking …' : 'Try it'}</button>
  </div>
  <p class="text-secondary">One probe of each, now, from the service. No server’s health changes.</p>
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if answer}
    <div class="relative mt-2 overflow-x-auto" aria-live="polite" data-testid="tries">
      <table class="w-full">
        <thead class="text-left">
          <tr>
            <th class="pr-3 font-normal text-secondary" scope="col">step</th>
            {#each answer.tries as it (it.server)}
              <th class="pr-3" scope="col"><span class={it.passed ? 'text-success' : 'text-error'}>{it.passed ? '✓' : '✗'}</span> {it.server}</th>
            {/each}
          </tr>
        </thead>
        <tbody>
          {#each STEPS.filter(([step]) => answer?.tries.some((it) => (it.evidence.steps ?? []).some((taken) => taken.step === step))) as [step, word] (step)}
            <tr class="border-t border-base-300 align-baseline">
              <td class="pr-3 text-secondary">{word}</td>
              {#each answer.tries as it (it.server)}
                <td class="pr-3"
                  >{#each (it.evidence.steps ?? []).filter((taken) => taken.step === step) as taken, index (index)}<div>
                      {micros(taken.took_us)}
                      {taken.observed}
                    </div>{:else}-{/each}</td
                >
              {/each}
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
</section>
