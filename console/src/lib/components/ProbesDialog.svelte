<script lang="ts">
  import DataTable from './DataTable.svelte'
  import Prose from './Prose.svelte'
  import Alert from './Alert.svelte'
  import { diagnose, probes as ask, words } from '../api/call'
  import type { Diagnosis, Mark, Probes } from '../api/types'
  import { ago, clock, micros } from '../format/format'
  import { live } from '../live/live.svelte'
  import Dialog from './Dialog.svelte'

  // The last probes of a server on a line of time, and where it fails.
  let { server, onclose }: { server: string; onclose: () => void } = $props()

  const EVERY = 1000
  const NEWEST = 8
  const steps: Record<string, string> = { connect: 'port', tls: 'TLS', answer: 'answer', status: 'status', body: 'content', done: 'passed' }

  let known = $state.raw<Probes | null>(null)
  let found = $state.raw<Diagnosis | null>(null)
  let busy = $state(false)
  let trouble = $state('')

  $effect(() => {
    const at = server
    let current = true
    const look = () =>
      ask(at).then(
        (probes) => {
          if (current) [known, trouble] = [probes, '']
        },
        (error) => {
          if (current) trouble = words(error)
        },
      )
    void look()
    const timer = setInterval(() => void look(), EVERY)
    return () => {
      current = false
      clearInterval(timer)
    }
  })

  /** The sign of a probe: the same as on the command line. */
  const sign = (mark: Mark) => (mark.passed ? (mark.to === null ? '·' : mark.to === 'up' ? '▲' : '△') : mark.to === null ? '✗' : mark.to === 'down' ? '▼' : '▽')
  const tone = (mark: Mark) => (mark.passed ? 'bg-success' : 'bg-error')
  /** Tall where health changed, so that colour is not the only sign. */
  const height = (mark: Mark) => (mark.to !== null ? 'h-8' : mark.passed ? 'h-4' : 'h-6')
  const describe = (mark: Mark) =>
    `${clock(mark.at)} ${mark.passed ? 'passed' : `failed (${steps[mark.step]})`}${mark.to ? `, now ${mark.to}` : ''}: ${mark.observed}`
  const changes = $derived(
    known === null || known.changes_today === 0 ? '' : known.changes_today === 1 ? 'changed once today' : `changed ${known.changes_today} times today`,
  )

  async function climb() {
    busy = true
    try {
      ;[found, trouble] = [await diagnose(server), '']
    } catch (error) {
      ;[found, trouble] = [null, words(error)]
    }
    busy = false
  }
</script>

<Dialog title={`Probes of ${server}`} wide {onclose}>
  {#if trouble}<Alert class="mb-2">{trouble}</Alert>{/if}
  {#if known}
    <p class="mb-2">
      <strong>{known.state}</strong>
      {#if live.status}for {ago(known.since, live.status.at)}{/if} · {known.message}
      {#if changes}<span class="text-secondary">· {changes}</span>{/if}
    </p>
    {#if known.marks.length > 0}
      <div
        class="mb-1 flex h-12 items-end justify-end gap-0.5 overflow-hidden border-b border-base-300"
        role="img"
        aria-label={`The last ${known.marks.length} probes, the newest on the right`}
        data-testid="marks"
      >
        {#each known.marks as mark (mark.at)}
          <div class="flex w-3 flex-col items-center justify-end" title={describe(mark)}>
            <span class="text-xs leading-none">{mark.to !== null || !mark.passed ? sign(mark) : ''}</span>
            <span class={`w-2 rounded-sm ${tone(mark)} ${height(mark)}`}></span>
          </div>
        {/each}
      </div>
      <p class="mb-3 flex justify-between text-xs text-secondary"><span>{clock(known.marks[0]!.at)}</span><span>now</span></p>
      <DataTable columns={['at', { name: 'outcome', spoken: true }, { name: 'took', right: true }, 'step', 'what came back']} class="mb-3 w-full">
        {#each known.marks.slice(-NEWEST).reverse() as mark (mark.at)}
          <tr>
            <td class="pr-3">{clock(mark.at)}</td>
            <td class={mark.passed ? 'text-success' : 'text-error'}>{sign(mark)}</td>
            <td class="text-right">{micros(mark.took_us)}</td>
            <td class="px-3">{steps[mark.step]}</td>
            <td>{mark.observed}{mark.to ? ` → ${mark.to}` : ''}</td>
          </tr>
        {/each}
      </DataTable>
    {/if}
  {/if}
  <button class="btn btn-sm btn-primary" disabled={busy} onclick={climb}>{busy ? 'Climbing …' : 'Find where it fails'}</button>
  {#if found}
    <section class="mt-3" aria-live="polite" data-testid="diagnosis">
      <p class="mb-2">
        <span class={found.works ? 'text-success' : 'text-error'}>{found.works ? '●' : '✕'}</span> <strong>{found.message}</strong>
      </p>
      <DataTable columns={[{ name: 'works', spoken: true }, 'step', { name: 'took', right: true }, found.server, ...(found.against ? [found.against] : [])]}>
        {#each found.rungs as rung, index (index)}
          <tr>
            <td class={rung.works ? 'text-success' : 'text-error'}>{rung.works ? '✓' : '✗'}</td>
            <td class="pr-3">{rung.what}</td>
            <td class="text-right">{rung.took_us === null ? '' : micros(rung.took_us)}</td>
            <td class="px-3">{rung.observed}</td>
            {#if found.against}<td class="text-secondary">{rung.there ?? ''}</td>{/if}
          </tr>
        {/each}
      </DataTable>
      {#each [['May be', found.causes], ['Look at', found.next]] as const as [head, items] (head)}
        {#if items.length > 0}
          <h3 class="mt-2 font-semibold">{head}</h3>
          <ul class="list-disc pl-5">
            {#each items as item (item)}<li><Prose text={item} /></li>{/each}
          </ul>
        {/if}
      {/each}
    </section>
  {/if}
</Dialog>
