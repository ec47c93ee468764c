<script lang="ts">
  import DataTable from '../lib/components/DataTable.svelte'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import { createToken, pinKey, renewPinKey, revokeToken, tokens, words } from '../lib/api/call'
  import type { PinKeyTimes, Tokens } from '../lib/api/types'
  import { moment } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'

  let found = $state.raw<Tokens | null>(null)
  let trouble = $state('')
  let name = $state('')
  let made = $state<{ name: string; token: string } | null>(null)
  let revoking = $state<string | null>(null)
  let key = $state.raw<PinKeyTimes | null>(null)
  let renewing = $state(false)

  const NAME = /^[a-z][a-z0-9-]{0,62}$/

  async function ask(act: () => Promise<void>) {
    try {
      await act()
      ;[found, key] = await Promise.all([tokens(), pinKey()])
      trouble = ''
    } catch (error) {
      trouble = words(error)
    }
  }

  $effect(() => {
    live.look(null)
    void ask(async () => {})
  })

  const create = () =>
    ask(async () => {
      made = null
      made = await createToken(name)
      name = ''
    })
  const revoke = (token: string) =>
    ask(async () => {
      revoking = null
      await revokeToken(token)
      if (made?.name === token) made = null
    })
  const renew = () =>
    ask(async () => {
      renewing = false
      await renewPinKey()
    })
</script>

<Card>
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">Access</h2>
    <p class="text-secondary">Each person and each program has a token of its own. A log-in here begins a session, which ends with its token.</p>
    <form
      class="ml-auto flex items-center gap-2"
      onsubmit={(event) => {
        event.preventDefault()
        void create()
      }}
    >
      <input class="input input-sm w-60" placeholder="name, such as night-shift" aria-label="Name of the new token" autocomplete="off" bind:value={name} />
      <button class="btn btn-primary btn-sm" disabled={!NAME.test(name)}>New token</button>
    </form>
  </div>
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if made}
    <section class="mb-3 rounded-box border border-success p-3" aria-label="The new token">
      <p class="mb-1">Token {made.name} counts from now on. It is shown this once:</p>
      <code class="block overflow-x-auto rounded-field bg-base-200 px-2 py-1" data-testid="token">{made.token}</code>
    </section>
  {/if}
  {#if found}
    <DataTable columns={['token', 'made', 'last used', 'state', { name: 'what can be done', spoken: true }]}>
      {#each found.tokens as it (it.name + it.made)}
        <tr>
          <td class="py-1 pr-4">{it.name}</td>
          <td class="pr-4">{moment(it.made)}</td>
          <td class="pr-4">{it.used ? moment(it.used) : 'never'}</td>
          <td class="pr-4">
            {#if it.revoked}✕ revoked {moment(it.revoked)}{:else}● counts{it.name === found.yours ? ', yours' : ''}{/if}
          </td>
          <td class="text-right">
            {#if !it.revoked && revoking === it.name}
              <button class="btn btn-error btn-xs" onclick={() => revoke(it.name)}>Revoke {it.name} now</button>
              <button class="btn btn-xs" onclick={() => (revoking = null)}>Leave it</button>
            {:else if !it.revoked}
              <button class="btn btn-xs" onclick={() => (revoking = it.name)} aria-label={`Revoke ${it.name}`}>Revoke</button>
            {/if}
          </td>
        </tr>
      {/each}
    </DataTable>
  {/if}
</Card>
{#if key}
  <Card class="mt-4">
    <div class="flex flex-wrap items-center gap-x-4 gap-y-2">
      <h2 class="text-base font-semibold">Key of the pin cookies</h2>
      <p class="text-secondary" data-testid="pin-key">
        The cookies that tie clients to servers are signed with a key drawn {moment(key.drawn)}{key.before
          ? `; those of the key before it, replaced ${moment(key.before)}, hold until the next is drawn`
          : ''}.
      </p>
      <div class="ml-auto flex items-center gap-2">
        {#if renewing}
          <span>Cookies of the key of now hold until the next; their clients get new ones.</span>
          <button class="btn btn-sm btn-warning" onclick={renew}>Draw a new key now</button>
          <button class="btn btn-ghost btn-sm" onclick={() => (renewing = false)}>Leave it</button>
        {:else}
          <button class="btn btn-sm" onclick={() => (renewing = true)}>New key …</button>
        {/if}
      </div>
    </div>
  </Card>
{/if}
