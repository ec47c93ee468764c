<script lang="ts">
  import DataTable from '../lib/components/DataTable.svelte'
  import Alert from '../lib/components/Alert.svelte'
  import Card from '../lib/components/Card.svelte'
  import { createToken, revokeToken, tokens, words } from '../lib/api/call'
  import type { Tokens } from '../lib/api/types'
  import { moment } from '../lib/format/format'
  import { live } from '../lib/live/live.svelte'

  let found = $state.raw<Tokens | null>(null)
  let trouble = $state('')
  let name = $state('')
  let made = $state<{ name: string; token: string } | null>(null)
  let revoking = $state<string | null>(null)

  const NAME = /^[a-z][a-z0-9-]{0,62}$/

  async function ask(act: () => Promise<void>) {
    try {
      await act()
      found = await tokens()
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
