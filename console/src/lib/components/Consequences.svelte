<script lang="ts">
  import DataTable from './DataTable.svelte'
  import Alert from './Alert.svelte'
  import { open, type Outlook } from '../desk/desk.svelte'
  import { noticed, percent, points } from '../format/format'
  import Changes from './Changes.svelte'

  let { outlook, accept = $bindable([]), canAccept = true }: { outlook: Outlook; accept?: string[]; canAccept?: boolean } = $props()

  const SHOWN = 30
  const moves = $derived(outlook.review?.impact.moves ?? [])
  const poolMoves = $derived(outlook.review?.impact.pool_moves ?? [])
  const rooms = $derived(outlook.review?.impact.rooms ?? [])
  const ROOM_WORDS = { in_flight: 'in flight', connections: 'connections', each_second: 'a second' }
  const certificates = $derived(outlook.review?.impact.certificates ?? [])
  const requests = $derived(outlook.review?.impact.requests)
  const timings = $derived(outlook.review?.impact.timings ?? [])
  const needed = $derived(new Set(open(outlook.warnings).map((it) => it.key)))
  /** What was so before is no news unless the change touches it. */
  const shownWarnings = $derived(outlook.warnings.filter((it) => !it.known || (it.touched && it.level === 'warning')))
  const standing = $derived(outlook.warnings.filter((it) => it.known && !it.touched && it.level === 'warning').length)
  /** Frontends whose clients would get 503 for want of a server. */
  const unanswered = $derived(
    outlook.warnings
      .filter((it) => !it.known && (it.key.startsWith('empty-pool:') || it.key.startsWith('no-weight:')))
      .flatMap((it) => /every client of (.+?)(?:,| gets)/.exec(it.message)?.[1] ?? []),
  )
</script>

<div class="space-y-3" aria-live="polite" data-testid="consequences">
  {#if outlook.trouble && outlook.mistakes.length === 0}
    <Alert>{outlook.trouble}</Alert>
  {/if}
  {#if outlook.mistakes.length > 0}
    <ul class="space-y-1 text-error" role="alert">
      {#each outlook.mistakes as mistake (mistake.path + mistake.found)}
        <li>✕ <code>{mistake.path}</code>: {mistake.found}. Right would be: {mistake.expected}</li>
      {/each}
    </ul>
  {/if}
  {#if outlook.between}
    <div>
      <h3 class="font-semibold">Between revision {outlook.between.from} and {outlook.between.to}</h3>
      <Changes changes={outlook.between.changes} />
    </div>
  {/if}
  {#if outlook.changes.length > 0}
    <div>
      <h3 class="mb-1 font-semibold">What changes</h3>
      <Changes changes={outlook.changes} />
    </div>
  {/if}
  {#each shownWarnings as warning (warning.key)}
    <div
      class="rounded-box border px-2 py-1"
      class:border-warning={warning.level === 'warning'}
      class:border-base-300={warning.level === 'notice'}
      data-warning={warning.key}
    >
      <p>
        <span class={warning.level === 'warning' ? 'font-semibold text-warning' : 'text-secondary'}>
          {warning.level === 'warning' ? '▲ warning' : '◇ notice'}
        </span>
        {warning.message}.
        <span class="text-secondary">What to do: {warning.help}.</span>
      </p>
      {#if warning.accepted}
        <p class="text-secondary">Accepted by {warning.accepted.who}.</p>
      {:else if needed.has(warning.key) && canAccept}
        <label class="mt-1 flex items-center gap-2">
          <input type="checkbox" class="checkbox checkbox-xs" value={warning.key} bind:group={accept} />
          Accept this warning
        </label>
      {/if}
    </div>
  {/each}
  {#if standing > 0}<p class="text-secondary" data-testid="standing">
      {standing === 1 ? '1 accepted warning stands' : `${standing} accepted warnings stand`}.
    </p>{/if}
  {#if unanswered.length > 0}
    <figure>
      <figcaption class="text-secondary">What a client would see</figcaption>
      <pre class="overflow-x-auto rounded-box bg-neutral p-2 text-neutral-content">HTTP/1.1 503 Service Unavailable

frontend {unanswered[0]}: no server is available</pre>
    </figure>
  {/if}
  {#if moves.length > 0}
    <div>
      <h3 class="mb-1 font-semibold">Shares</h3>
      <DataTable
        columns={['server', { name: 'bar', spoken: true }, { name: 'before', right: true }, { name: 'after', right: true }, { name: 'points', right: true }]}
        class="w-full max-w-2xl"
      >
        {#each moves.slice(0, SHOWN) as move (move.server)}
          <tr>
            <th scope="row" class="pr-2 text-left font-normal"
              >{move.server}{#if move.why_none}<span class="text-secondary"> {move.why_none}</span>{/if}</th
            >
            <td class="w-28">
              <div class="relative h-2.5 bg-base-300" aria-hidden="true">
                <div class="h-full bg-primary/60" style={`width: ${(move.after ?? 0) * 100}%`}></div>
                <div class="absolute -top-0.5 h-3.5 w-0.5 bg-base-content" style={`left: calc(${(move.before ?? 0) * 100}% - 1px)`}></div>
              </div>
            </td>
            <td class="text-right">{percent(move.before)}</td>
            <td class="text-right">{percent(move.after)}</td>
            <td class="text-right">{points((move.after ?? 0) - (move.before ?? 0))}</td>
          </tr>
        {/each}
      </DataTable>
      {#if moves.length > SHOWN}<p class="text-secondary">and {moves.length - SHOWN} more servers</p>{/if}
    </div>
  {/if}
  {#if poolMoves.length > 0}
    <div data-testid="pool-moves">
      <h3 class="mb-1 font-semibold">Parts of pools</h3>
      <DataTable
        columns={['frontend', 'pool', { name: 'before', right: true }, { name: 'after', right: true }, { name: 'points', right: true }]}
        class="w-full max-w-2xl"
      >
        {#each poolMoves as move (`${move.frontend} ${move.pool}`)}
          <tr>
            <td>{move.frontend}</td>
            <td>{move.pool}</td>
            <td class="text-right">{percent(move.before)}</td>
            <td class="text-right">{percent(move.after)}</td>
            <td class="text-right">{points((move.after ?? 0) - (move.before ?? 0))}</td>
          </tr>
        {/each}
      </DataTable>
    </div>
  {/if}
  {#each rooms as it (`${it.pool} ${it.room}`)}
    <p data-testid="room">
      <span class="font-semibold">Room</span> pool {it.pool}, {ROOM_WORDS[it.room]}: {it.before ?? 'no limit'} → {it.after ?? 'no limit'}
    </p>
  {/each}
  {#each timings as it (`${it.pool} ${it.check}`)}
    <div>
      <h3 class="font-semibold">Noticing a failure{it.pool ? ` in pool ${it.pool}` : ''}</h3>
      {#if it.before}<p class="text-secondary">now: {noticed(it.before)}</p>{/if}
      <p>{it.after ? noticed(it.after) : 'failures are not noticed any more'}</p>
    </div>
  {/each}
  {#if certificates.length > 0}
    <div data-testid="certificate-changes">
      <h3 class="font-semibold">Certificates that clients are shown</h3>
      {#each certificates.slice(0, 20) as it (`${it.frontend} ${it.host}`)}
        <p>{it.host} at frontend {it.frontend}: {it.before ?? 'none for it'} → {it.after ?? 'none for it'}</p>
      {/each}
      {#if certificates.length > 20}<p class="text-secondary">and {certificates.length - 20} more hosts</p>{/if}
    </div>
  {/if}
  {#if requests}
    <div data-testid="request-replay">
      <h3 class="font-semibold">Requests of the last hour</h3>
      <p class={requests.elsewhere > 0 ? 'text-warning' : ''}>
        {requests.elsewhere} of {requests.requests} sampled ones would go elsewhere.
        {#if requests.undecided > 0}
          <span class="text-secondary">Of {requests.undecided} nothing can be said: a rule looks at their header fields, which are not kept.</span>
        {/if}
      </p>
      {#each requests.moves as it (`${it.frontend} ${it.method} ${it.host ?? ''} ${it.path}`)}
        <p>
          <span class="font-semibold">{it.requests} × {it.method} {it.host ?? ''}{it.path}</span> at frontend {it.frontend}: {it.before} → {it.after}
        </p>
      {/each}
    </div>
  {/if}
  {#each outlook.review?.touched ?? [] as it (it.whose)}
    <p>{it.count} {it.whose}, {it.message}</p>
  {/each}
  {#if outlook.review && (outlook.review.impact.frontends.length > 0 || outlook.review.impact.pools.length > 0)}
    <p class="text-secondary">
      Touches
      {#if outlook.review.impact.frontends.length > 0}frontends {outlook.review.impact.frontends.slice(0, 6).join(', ')}{outlook.review.impact.frontends
          .length > 6
          ? ` and ${outlook.review.impact.frontends.length - 6} more`
          : ''};{/if}
      pools {outlook.review.impact.pools.slice(0, 6).join(', ') || 'none'}{outlook.review.impact.pools.length > 6
        ? ` and ${outlook.review.impact.pools.length - 6} more`
        : ''}
    </p>
  {/if}
</div>
