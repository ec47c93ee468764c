<script lang="ts">
  import type { Edit, ThingView } from '../api/types'
  import { KINDS } from '../desk/fields'
  import Dialog from './Dialog.svelte'
  import GoLive from './GoLive.svelte'

  let { thing, ongone, onrenamed }: { thing: ThingView; ongone: () => void; onrenamed: (to: string) => void } = $props()

  let doing = $state<'rename' | 'copy' | 'remove' | null>(null)
  let to = $state('')
  let differs = $state('')

  /** The key in which a copy has to differ, for it can be there only once. */
  const unique = $derived(thing.kind === 'frontend' ? 'listen' : thing.kind === 'server' ? 'address' : null)
  const edits = $derived.by<Edit[]>(() => {
    const name = to.trim()
    if (doing === 'remove') return [{ do: 'remove', thing: thing.path }]
    if (name === '') return []
    if (doing === 'rename') return [{ do: 'rename', thing: thing.path, to: name }]
    const keys = unique && differs.trim() ? { [unique]: differs.trim() } : {}
    return [{ do: 'copy', thing: thing.path, to: name, keys }]
  })

  function begin(what: 'rename' | 'copy' | 'remove') {
    to = ''
    differs = ''
    doing = what
  }

  function made() {
    const what = doing
    doing = null
    if (what === 'remove') ongone()
    else onrenamed(to.trim())
  }
</script>

<div class="flex gap-1">
  <button class="btn btn-xs" onclick={() => begin('rename')}>Rename …</button>
  <button class="btn btn-xs" onclick={() => begin('copy')}>Copy …</button>
  <button class="btn btn-xs" onclick={() => begin('remove')}>Remove …</button>
</div>

{#if doing}
  <Dialog
    title={`${doing === 'rename' ? 'Rename' : doing === 'copy' ? 'Copy' : 'Remove'} ${KINDS[thing.kind].one} ${thing.name}`}
    onclose={() => (doing = null)}
  >
    {#if doing !== 'remove'}
      <label class="mb-1 block" for="new-name">{doing === 'rename' ? 'New name' : 'Name of the copy'}</label>
      <input id="new-name" class="input input-sm mb-3 w-full" autocomplete="off" bind:value={to} maxlength="63" />
      {#if doing === 'copy' && unique}
        <label class="mb-1 block" for="differs">{unique === 'listen' ? 'It listens on' : 'Its address'}</label>
        <input id="differs" class="input input-sm mb-3 w-full" autocomplete="off" bind:value={differs} placeholder={String(thing.keys[unique] ?? '')} />
      {/if}
    {:else if thing.used_by.length > 0}
      <p class="mb-3">It is used by {thing.used_by.join(', ')}.</p>
    {/if}
    <GoLive {edits} verb={doing === 'rename' ? 'Rename it' : doing === 'copy' ? 'Copy it' : 'Remove it'} onmade={made} />
  </Dialog>
{/if}
