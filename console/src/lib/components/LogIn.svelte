<script lang="ts">
  import Alert from './Alert.svelte'
  import { CallError, logIn } from '../api/call'
  import { live } from '../live/live.svelte'

  // `over` a page whose session has ended: the page and what was typed in it stay as they are.
  let { over = false }: { over?: boolean } = $props()

  let token = $state('')
  let trouble = $state('')

  function open(dialog: HTMLDialogElement) {
    dialog.showModal()
  }

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    trouble = ''
    try {
      await logIn(token)
      token = ''
      await live.start()
    } catch (error) {
      trouble =
        error instanceof CallError && error.status === 401 ? 'That is not a token of this service.' : error instanceof Error ? error.message : String(error)
    }
  }
</script>

{#snippet form()}
  <form class="w-96 max-w-full rounded-box border border-base-300 bg-base-100 p-6" onsubmit={submit}>
    <div class="mb-4 flex items-center gap-3">
      <img src="/mark.svg" alt="" class="h-9 w-9" />
      <h1 class="text-xl font-semibold">Merismos</h1>
    </div>
    <!-- Whose token it is: password managers keep it under this name. -->
    <input class="hidden" type="text" name="username" autocomplete="username" value="merismos" readonly />
    <label class="mb-1 block" for="token">Token</label>
    <input id="token" type="password" class="input w-full" autocomplete="current-password" bind:value={token} required aria-describedby="token-help" />
    <p id="token-help" class="mt-1 text-secondary">
      The first one is in the file <code>first-token</code> in the service’s state folder.
    </p>
    {#if over}<p class="mt-3">Your session has ended. What you typed stays where it is.</p>{/if}
    {#if trouble}<Alert class="mt-3">{trouble}</Alert>{/if}
    <button class="btn btn-primary mt-4 w-full" type="submit">Log in</button>
  </form>
{/snippet}

{#if over}
  <!-- It can't be closed: what lies behind can't be used without a session. -->
  <dialog
    {@attach open}
    class="m-auto bg-transparent p-0 text-base-content backdrop:bg-black/40"
    aria-label="Log in again"
    oncancel={(event) => event.preventDefault()}
  >
    {@render form()}
  </dialog>
{:else}
  <main class="flex min-h-screen items-center justify-center bg-base-200 p-4">
    {@render form()}
  </main>
{/if}
