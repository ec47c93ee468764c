<script lang="ts">
  import Alert from './Alert.svelte'
  import type { Edit, ObjectView } from '../api/types'
  import { words } from '../api/call'
  import { desk } from '../desk/desk.svelte'
  import { KINDS } from '../desk/fields'
  import { removalOf, type Removal } from '../desk/removal'
  import Dialog from './Dialog.svelte'
  import GoLive from './GoLive.svelte'

  let { object, ongone, onrenamed }: { object: ObjectView; ongone: () => void; onrenamed: (to: string) => void } = $props()

  type Doing = 'rename' | 'copy' | 'remove' | 'remove-all'
  let doing = $state<Doing | null>(null)
  let removal = $state.raw<Removal | null>(null)
  let trouble = $state('')
  let to = $state('')
  let differs = $state('')

  /** The key in which a copy has to differ, for it can be there only once. */
  const unique = $derived(object.kind === 'frontend' ? 'listen' : object.kind === 'server' ? 'address' : null)
  const edits = $derived.by<Edit[]>(() => {
    const name = to.trim()
    if (doing === 'remove-all') return removal?.edits ?? []
    if (doing === 'remove') return [{ do: 'remove', object: object.path }]
    if (name === '') return []
    if (doing === 'rename') return [{ do: 'rename', object: object.path, to: name }]
    const keys = unique && differs.trim() ? { [unique]: differs.trim() } : {}
    return [{ do: 'copy', object: object.path, to: name, keys }]
  })

  function begin(what: Doing) {
    ;[removal, trouble] = [null, '']
    if (what === 'remove-all')
      removalOf(object, desk.draft).then(
        (found) => (removal = found),
        (error) => (trouble = words(error)),
      )
    to = ''
    differs = ''
    doing = what
  }

  function made() {
    const what = doing
    doing = null
    if (what === 'remove' || what === 'remove-all') ongone()
    else onrenamed(to.trim())
  }
</script>

<div class="flex flex-wrap gap-1">
  <button class="btn btn-xs" onclick={() => begin('rename')}>Rename …</button>
  <button class="btn btn-xs" onclick={() => begin('copy')}>Copy …</button>
  <button class="btn btn-xs" onclick={() => begin('remove')}>Remove …</button>
  {#if object.kind === 'frontend'}<button class="btn btn-xs" onclick={() => begin('remove-all')}>Remove with its pools …</button>{/if}
</div>

{#if doing}
  <Dialog
    title={`${doing === 'rename' ? 'Rename' : doing === 'copy' ? 'Copy' : 'Remove'} ${KINDS[object.kind].one} ${object.name}`}
    onclose={() => (doing = null)}
  >
    {#if doing === 'remove-all'}
      {#if trouble}<Alert>{trouble}</Alert>{/if}
      <p class="mb-3">The frontend goes, and with it what nothing else uses: its pools with their servers, their checks, its address of a range.</p>
      {#each removal?.left ?? [] as it (it.path)}<p class="mb-1">{it.path} is left: it is used by {it.users.join(', ')} too.</p>{/each}
    {:else if doing !== 'remove'}
      <label class="mb-1 block" for="new-name">{doing === 'rename' ? 'New name' : 'Name of the copy'}</label>
      <input id="new-name" class="input input-sm mb-3 w-full" autocomplete="off" bind:value={to} maxlength="63" />
      {#if doing === 'copy' && unique}
        <label class="mb-1 block" for="differs">{unique === 'listen' ? 'It listens on' : 'Its address'}</label>
        <input id="differs" class="input input-sm mb-3 w-full" autocomplete="off" bind:value={differs} placeholder={String(object.keys[unique] ?? '')} />
      {/if}
    {:else if object.used_by.length > 0}
      <p class="mb-3">It is used by {object.used_by.join(', ')}.</p>
    {/if}
    <GoLive {edits} verb={doing === 'rename' ? 'Rename it' : doing === 'copy' ? 'Copy it' : doing === 'remove' ? 'Remove it' : 'Remove them'} onmade={made} />
  </Dialog>
{/if}
