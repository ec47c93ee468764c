<script lang="ts">
  import Alert from './Alert.svelte'
  import { explain, words } from '../api/call'
  import type { Explanation, RuleTrace } from '../api/types'
  import { shortName } from '../format/format'

  // Where a request would go, asked of what runs; nothing is sent.
  let { frontend, protocol, tls }: { frontend: string; protocol: string; tls: boolean } = $props()

  let client = $state('')
  let method = $state('')
  let path = $state('')
  let host = $state('')
  let sni = $state('')
  let firstBytes = $state('')
  let cookie = $state('')
  let header = $state('')
  let connection = $state('')
  let answer = $state.raw<Explanation | null>(null)
  let trouble = $state('')

  const changes = $derived.by(() => {
    const rules = answer?.rules
    if (!rules) return []
    const path = rules.path === null || rules.path === undefined ? [] : [`path ${rules.path}`]
    const host = rules.host === null || rules.host === undefined ? [] : [`host ${rules.host}`]
    return [
      ...[...path, ...host, ...rules.request_fields].map((it) => `request: ${it}`),
      ...rules.response_fields.map((it) => `response: ${it}`),
      ...rules.decides,
    ]
  })

  async function ask(event: SubmitEvent) {
    event.preventDefault()
    try {
      const given = { client, method, path, host, sni, first_bytes: firstBytes, cookie, header, connection }
      answer = await explain(frontend, Object.fromEntries(Object.entries(given).filter(([, value]) => value.trim() !== '')))
      trouble = ''
    } catch (error) {
      ;[answer, trouble] = [null, words(error)]
    }
  }
</script>

{#snippet asked(rule: RuleTrace, met: boolean)}
  <li>
    <span class={met ? 'text-success' : 'text-secondary'}>{met ? '●' : '○'}</span>
    rule <a class="link font-semibold" href={`/rules/${rule.name}`}>{rule.name}</a>
    {met ? rule.does : 'is not met'}
    <ul class="pl-5 text-secondary">
      {#each rule.tests as test (test.test)}
        <li>{test.holds ? '✓' : '✕'} <code>{test.test}</code>: {test.observed === null ? 'it has none' : `it has “${test.observed}”`}</li>
      {/each}
    </ul>
  </li>
{/snippet}

<section class="mb-4 rounded-box border border-base-300 bg-base-200 p-3" aria-labelledby="explain-title">
  <h3 id="explain-title" class="mb-2 font-semibold">Which server would this client get?</h3>
  <form class="flex flex-wrap items-end gap-2" onsubmit={ask}>
    <label>Client’s address<input class="input input-sm block w-40" autocomplete="off" placeholder="127.0.0.1" bind:value={client} /></label>
    {#if protocol === 'http'}
      <label>Method<input class="input input-sm block w-24" autocomplete="off" placeholder="GET" bind:value={method} /></label>
      <label>Path<input class="input input-sm block w-44" autocomplete="off" placeholder="/" bind:value={path} /></label>
      <label>Host<input class="input input-sm block w-44" autocomplete="off" bind:value={host} /></label>
      <label>Cookies<input class="input input-sm block w-44" autocomplete="off" placeholder="visit=a81f" bind:value={cookie} /></label>
      <label>A field<input class="input input-sm block w-44" autocomplete="off" placeholder="X-Account: 17" bind:value={header} /></label>
    {:else if protocol === 'tcp'}
      <label>It sends first<input class="input input-sm block w-44" autocomplete="off" placeholder="LOGIN anna" bind:value={firstBytes} /></label>
    {/if}
    {#if protocol === 'tcp' || tls}
      <label>TLS server name<input class="input input-sm block w-44" autocomplete="off" bind:value={sni} /></label>
    {/if}
    <label>Connection is with<input class="input input-sm block w-44" autocomplete="off" placeholder="booking/gull" bind:value={connection} /></label>
    <button class="btn btn-sm btn-primary" type="submit">Explain</button>
  </form>
  {#if trouble}<Alert class="mt-2">{trouble}</Alert>{/if}
  {#if answer}
    <div class="mt-3" aria-live="polite" data-testid="explained">
      {#if answer.limits.length > 0}
        <ul class="mb-2" aria-label="Limits">
          {#each answer.limits as limit (limit.name)}
            <li>
              {#if limit.passes}<span class="text-success">✓</span>{:else}<span class="text-error">✕</span>{/if}
              limit <a class="link" href={`/limits/${limit.name}`}>{limit.name}</a>: {limit.allows} per {limit.per} ({limit.action}):
              <span class="text-secondary">{limit.says}</span>
            </li>
          {/each}
        </ul>
      {/if}
      {#if answer.rules}
        <ol class="mb-2" aria-label="Rules">
          {#each answer.rules.before as rule (rule.name)}{@render asked(rule, rule.is_met)}{/each}
          {#if answer.rules.more_before > 0}<li class="text-secondary">and {answer.rules.more_before} more rules that are not met</li>{/if}
          {#if answer.rules.met}{@render asked(answer.rules.met, true)}
          {:else if answer.rules.status === null}<li class="text-secondary">No rule decides: the request goes to the pools of the frontend.</li>{/if}
        </ol>
        {#if changes.length > 0}
          <ul class="mb-2" aria-label="Changed on the way">
            {#each changes as change (change)}<li><code>{change}</code></li>{/each}
          </ul>
        {/if}
      {/if}
      <p>
        {#if answer.server}
          <span class="text-success">●</span> <strong>{answer.server}</strong>: {answer.why}
        {:else if answer.rules?.status}
          <span class="text-info">■</span> <strong>status {answer.rules.status}</strong>: {answer.why}
        {:else}
          <span class="text-error">✕ no server</span>: {answer.why}
        {/if}
      </p>
      {#if answer.why_pool}<p>pool {answer.pool}: {answer.why_pool}</p>{/if}
      {#if answer.unit === 'connection'}<p class="text-secondary">Connections are distributed: whatever comes later on one stays with its server.</p>{/if}
      <ul class="mt-1">
        {#each answer.others as other (other.server)}
          <li><span class="font-semibold">{shortName(other.server)}</span> <span class="text-secondary">{other.why}</span></li>
        {/each}
      </ul>
    </div>
  {/if}
</section>
