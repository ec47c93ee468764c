<script lang="ts">
  import DataTable from './DataTable.svelte'
  import Alert from './Alert.svelte'
  import { beginTrial, words } from '../api/call'
  import type { Trial } from '../api/types'
  import { length, micros, percent, points } from '../format/format'
  import { live } from '../live/live.svelte'
  import Dialog from './Dialog.svelte'

  let { frontend, onclose }: { frontend: string; onclose: () => void } = $props()

  let requests = $state(600)
  let concurrency = $state(8)
  let clients = $state<number | null>(null)
  let from = $state('')
  let keepCookies = $state(false)
  let newPercent = $state<number | null>(null)
  let server = $state('')
  let host = $state('')
  let certificate = $state('')
  let path = $state('/')
  let say = $state('')
  let oneWay = $state(false)
  let trouble = $state('')
  let begun = $state<Trial | null>(null)

  const front = $derived(live.status?.frontends.find((it) => it.name === frontend))
  const protocol = $derived(front?.protocol ?? 'http')
  const many = $derived({ http: 'requests', tcp: 'connections', udp: 'datagrams' }[protocol] ?? 'requests')
  const servers = $derived.by(() => {
    const pools = new Set([front?.pool, ...(front?.pools ?? []).map((it) => it.pool)])
    return (live.status?.pools ?? []).filter((it) => pools.has(it.name)).flatMap((it) => it.servers.map((server) => server.server))
  })
  const trial = $derived(begun && (live.trials[begun.id] ?? begun))
  const sent = $derived(trial?.sends === 'one_way' ? 'datagrams' : (trial?.sends ?? many))

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    trouble = ''
    const own =
      protocol === 'http'
        ? {
            path: path.trim() || '/',
            keep_cookies: keepCookies,
            new_percent: newPercent ?? undefined,
            server: server || undefined,
          }
        : { say: say || undefined, one_way: (protocol === 'udp' && oneWay) || undefined }
    try {
      begun = await beginTrial({
        frontend,
        requests,
        concurrency,
        clients: clients ?? undefined,
        from: from.trim() || undefined,
        host: host.trim() || undefined,
        certificate: certificate.trim() || undefined,
        ...own,
      })
    } catch (error) {
      trouble = words(error)
    }
  }
</script>

<Dialog title={`Try ${frontend}`} wide {onclose}>
  <form class="flex flex-wrap items-end gap-3" onsubmit={submit}>
    <label>
      <span class="mb-1 block capitalize">{many}</span>
      <input class="input w-28" type="number" min="1" max="1000000" bind:value={requests} required />
    </label>
    <label>
      <span class="mb-1 block">At the same time</span>
      <input class="input w-24" type="number" min="1" max="256" bind:value={concurrency} required />
    </label>
    <label>
      <span class="mb-1 block">Clients</span>
      <input class="input w-24" type="number" min="1" max="1000" placeholder="as many" bind:value={clients} />
    </label>
    <label>
      <span class="mb-1 block">Who come from</span>
      <input class="input w-40" autocomplete="off" placeholder="127.0.9.0/24" bind:value={from} />
    </label>
    {#if front?.tls || protocol === 'http'}
      <label>
        <span class="mb-1 block">Host</span>
        <input class="input w-48" autocomplete="off" placeholder={front?.tls ? 'the certificate’s first' : 'the address'} bind:value={host} />
      </label>
    {/if}
    {#if front?.tls}
      <label>
        <span class="mb-1 block">Certificate of clients</span>
        <input class="input w-48" autocomplete="off" placeholder="none" bind:value={certificate} />
      </label>
    {/if}
    {#if protocol === 'http'}
      <label>
        <span class="mb-1 block">Path</span>
        <input class="input w-36" autocomplete="off" bind:value={path} />
      </label>
      <label class="flex items-center gap-2 pb-2">
        <input class="checkbox checkbox-sm" type="checkbox" bind:checked={keepCookies} />
        keep their cookies
      </label>
      <label>
        <span class="mb-1 block">New clients, %</span>
        <input class="input w-24" type="number" min="1" max="100" placeholder="none" bind:value={newPercent} />
      </label>
      <label>
        <span class="mb-1 block">Server</span>
        <select class="select w-52" bind:value={server}>
          <option value="">as the pool decides</option>
          {#each servers as it (it)}<option value={it}>{it}</option>{/each}
        </select>
      </label>
    {:else}
      <label>
        <span class="mb-1 block">And say</span>
        <input class="input w-48" autocomplete="off" placeholder={protocol === 'tcp' ? 'nothing' : 'merismos trial'} bind:value={say} />
      </label>
      {#if protocol === 'udp'}
        <label class="flex items-center gap-2 pb-2">
          <input class="checkbox checkbox-sm" type="checkbox" bind:checked={oneWay} />
          no response comes
        </label>
      {/if}
    {/if}
    <button class="btn btn-primary" type="submit" disabled={trial?.state === 'running'}>Send real {many}</button>
  </form>
  <p class="mt-2 text-secondary">
    They go through the frontend as any client’s do, and are counted by the server that took them. Clients take turns, each with its own address as far as the
    network has so many.
  </p>
  {#if trouble}<Alert class="mt-2">{trouble}</Alert>{/if}

  {#if trial}
    <div class="mt-4" data-testid="trial" aria-live="polite">
      {#if trial.state === 'running'}
        <progress class="progress w-full" value={trial.ended} max={trial.request.requests}></progress>
        <p>{trial.ended} of {trial.request.requests} {sent}</p>
      {:else if trial.tally}
        {@const tally = trial.tally}
        {@const well = tally.verdict === 'as_expected'}
        <p class={`font-semibold ${well ? 'text-success' : 'text-error'}`} data-testid="verdict">
          {well ? '● As expected' : tally.verdict === 'too_few' ? '○ Can’t be judged' : '✕ Not as expected'}:
          {tally.because.join('; ')}
        </p>
        <DataTable
          columns={['server', ...[sent, 'expected', 'observed', 'difference', 'failed', 'retried', 'median', '99 %'].map((name) => ({ name, right: true }))]}
          class="mt-2 w-full"
        >
          {#each tally.rows as row (row.server)}
            <tr class="whitespace-nowrap text-right">
              <th scope="row" class="py-0.5 text-left font-semibold">{row.server}</th>
              <td>{row.requests}</td>
              <td>{percent(row.expected)}</td>
              <td>{percent(row.observed)}</td>
              <td>{points(row.observed - row.expected)}</td>
              <td class:text-error={row.failed > 0}>{row.failed}</td>
              <td class:text-warning={row.retried > 0}>{row.retried}</td>
              <td>{micros(row.median_us)}</td>
              <td>{micros(row.p99_us)}</td>
            </tr>
          {/each}
          {#if tally.without_server > 0}
            <tr class="text-right text-error">
              <th scope="row" class="py-0.5 text-left font-semibold">no server</th>
              <td>{tally.without_server}</td>
              <td colspan="7"></td>
            </tr>
          {/if}
        </DataTable>
        <p class="mt-2">
          {tally.requests}
          {sent} in {length(trial.took_ms)}, {tally.failed} failed, {tally.retried} went to another server after one failed{(tally.tied ?? 0) > 0
            ? `; ${tally.tied} of one server alone, ${tally.strayed} of them went elsewhere`
            : ''}.
          {#if tally.test}
            Chi-square {tally.test.statistic.toFixed(2)} with {tally.test.freedom} degrees of freedom,
            {tally.test.p_value < 0.001 ? 'p < 0.001' : `p = ${tally.test.p_value.toFixed(3)}`}.
          {/if}
        </p>
        {#each tally.moves ?? [] as moved (moved.from + (moved.reason ?? ''))}
          <p class:text-error={!moved.reason}>
            {moved.clients === 1 ? '1 client was' : `${moved.clients} clients were`} moved from {moved.from}: {moved.reason ?? 'without a reason'}
          </p>
        {/each}
        {#if trial.happened.length > 0}
          <h3 class="mt-3 font-semibold">Events meanwhile</h3>
          <ol class="max-h-40 overflow-auto">
            {#each trial.happened as it, index (index)}
              <li><span class="text-secondary">+{(it.after_ms / 1000).toFixed(1)} s</span> {it.subject} {it.message}</li>
            {/each}
          </ol>
        {/if}
      {/if}
    </div>
  {/if}
</Dialog>
