<script lang="ts">
  import DataTable from './DataTable.svelte'
  import Alert from './Alert.svelte'
  import Dialog from './Dialog.svelte'
  import Prose from './Prose.svelte'
  import { diagnoseFrontend, words } from '../api/call'
  import type { FrontendDiagnosis } from '../api/types'
  import { micros } from '../format/format'

  // Goes to a frontend as a client on the service's machine would, and says where that fails.
  let { frontend, onclose }: { frontend: string; onclose: () => void } = $props()

  let host = $state('')
  let found = $state.raw<FrontendDiagnosis | null>(null)
  let busy = $state(false)
  let trouble = $state('')

  async function climb(event: SubmitEvent) {
    event.preventDefault()
    busy = true
    try {
      ;[found, trouble] = [await diagnoseFrontend(frontend, host.trim().toLowerCase() || null), '']
    } catch (error) {
      ;[found, trouble] = [null, words(error)]
    }
    busy = false
  }
</script>

<Dialog title={`Does a client get through to ${frontend}?`} wide {onclose}>
  <form class="mb-2 flex flex-wrap items-end gap-2" onsubmit={climb}>
    <label>Host that it asks for <input class="input input-sm w-72" bind:value={host} placeholder="as its certificate says" /></label>
    <button class="btn btn-sm btn-primary" disabled={busy}>{busy ? 'Climbing …' : 'Find where it fails'}</button>
  </form>
  {#if trouble}<Alert class="mb-2">{trouble}</Alert>{/if}
  {#if found}
    <section class="mt-3" aria-live="polite" data-testid="diagnosis">
      <p class="mb-2">
        <span class={found.works ? 'text-success' : 'text-error'}>{found.works ? '●' : '✕'}</span> <strong>{found.message}</strong>
      </p>
      <DataTable columns={[{ name: 'works', spoken: true }, 'step', { name: 'took', right: true }, `asked for ${found.host}`]}>
        {#each found.steps as step, index (index)}
          <tr>
            <td class={step.works ? 'text-success' : 'text-error'}>{step.works ? '✓' : '✗'}</td>
            <td class="pr-3">{step.what}</td>
            <td class="text-right">{step.took_us === null ? '' : micros(step.took_us)}</td>
            <td class="px-3">{step.observed}</td>
          </tr>
        {/each}
      </DataTable>
      {#if found.next.length > 0}
        <h3 class="mt-2 font-semibold">Look at</h3>
        <ul class="list-disc pl-5">
          {#each found.next as item (item)}<li><Prose text={item} /></li>{/each}
        </ul>
      {/if}
    </section>
  {/if}
</Dialog>
