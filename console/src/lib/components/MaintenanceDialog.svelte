<script lang="ts">
  import { untrack } from 'svelte'
  import { objects } from '../api/call'
  import type { Edit, Keys, ObjectView } from '../api/types'
  import { useAnswer } from '../api/useAnswer'
  import { desk } from '../desk/desk.svelte'
  import Dialog from './Dialog.svelte'
  import GoLive from './GoLive.svelte'
  import ObjectPicker from './ObjectPicker.svelte'

  // Begins and ends the maintenance of a frontend: its clients get a page instead of the application.
  let { frontend, onclose }: { frontend: ObjectView; onclose: () => void } = $props()

  const LIMIT = 500
  const was = (key: string) => String(frontend.keys[key] ?? '')

  const stands = $derived(was('maintenance'))
  let reason = $state('')
  // What was typed stays when another operator changes the frontend meanwhile.
  let networks = $state(untrack(() => ((frontend.keys.maintenance_except ?? []) as string[]).join(' ')))
  let after = $state(untrack(() => was('maintenance_retry_after')))
  let page = $state(untrack(() => was('maintenance_page')))
  let names = $state.raw<{ all: string[]; complete: boolean }>()

  $effect(() =>
    useAnswer(objects({ kind: 'network', limit: LIMIT, draft: desk.draft }), (found) => {
      names = { all: found.objects.map((it) => it.name), complete: found.total <= LIMIT }
    }),
  )

  async function take(input: HTMLInputElement) {
    const file = input.files?.[0]
    if (!file) return
    page = await file.text()
    input.value = ''
  }

  const change = (keys: Keys): Edit[] => [{ do: 'change', object: frontend.path, keys }]
  const begin = $derived(
    reason.trim() === ''
      ? []
      : change({
          maintenance: reason.trim(),
          maintenance_except: networks.split(' ').filter((name) => name !== ''),
          maintenance_retry_after: after.trim() || null,
          maintenance_page: page || null,
        }),
  )
  const end = $derived(change({ maintenance: null }))
</script>

<Dialog title={stands ? `End the maintenance of ${frontend.name}` : `Maintenance of ${frontend.name}`} {onclose}>
  {#if stands}
    <p class="mb-3">Clients get 503 with a page instead of the application: {stands}.</p>
    <GoLive edits={end} verb="End maintenance" onmade={onclose} />
  {:else}
    <p class="mb-3 text-secondary">Clients get 503 with a page, before any rule is asked, until the maintenance is ended.</p>
    <div class="mb-3 grid gap-3 sm:grid-cols-2">
      <div class="sm:col-span-2">
        <label class="mb-1 block" for="maintenance-reason">Reason</label>
        <input id="maintenance-reason" class="input w-full" maxlength="253" bind:value={reason} placeholder="new booking engine" autocomplete="off" />
      </div>
      <div>
        <label class="mb-1 block" for="maintenance-networks">Except for networks</label>
        <ObjectPicker
          id="maintenance-networks"
          kind="network"
          names={names?.all}
          complete={names?.complete ?? false}
          several
          placeholder="none"
          bind:value={networks}
        />
      </div>
      <div>
        <label class="mb-1 block" for="maintenance-after">Clients may come again after</label>
        <input id="maintenance-after" class="input w-full" bind:value={after} placeholder="5m" autocomplete="off" />
      </div>
      <div class="sm:col-span-2">
        <label class="mb-1 block" for="maintenance-page">Page</label>
        <textarea id="maintenance-page" class="textarea w-full" rows="3" bind:value={page} placeholder="a sentence that names the frontend"></textarea>
        <label class="mt-1 flex items-center gap-2 text-secondary">
          <span class="whitespace-nowrap">From a file:</span>
          <input type="file" class="file-input file-input-xs" onchange={(event) => void take(event.currentTarget)} />
        </label>
        <p class="mt-1 text-secondary">one that begins with &lt; is sent as HTML</p>
      </div>
    </div>
    <GoLive edits={begin} verb="Begin maintenance" missing={reason.trim() === '' ? ['Reason'] : []} onmade={onclose} />
  {/if}
</Dialog>
