<script lang="ts">
  import type { ServerStatus, Status } from '../api/types'
  import { ago, length, rate, shortName } from '../format/format'
  import { dutySign, healthSign, lasting, standing, trustWords } from '../format/sign'
  import Share from './Share.svelte'

  let { status, onduty, onprobes }: { status: Status; onduty: (server: ServerStatus) => void; onprobes: (server: ServerStatus) => void } = $props()

  function why(server: ServerStatus): string {
    const parts: string[] = []
    if (server.duty && server.duty.duty !== 'in_service') parts.push(`by ${server.duty.who}, ${ago(server.duty.at, status.at)} ago: ${server.duty.reason}`)
    const probe = server.health.last_probe
    if (server.health.checked && probe && probe.step !== 'done') parts.push(probe.observed)
    parts.push(...standing(server, status.at))
    if (parts.length === 0 && server.reason_words) parts.push(server.reason_words)
    return parts.join(' · ')
  }
</script>

<section class="relative overflow-x-auto rounded-box border border-base-300 bg-base-100 p-3" aria-label="Servers">
  <table class="w-full border-collapse [&_td]:pr-2 [&_th]:pr-2">
    <thead class="text-left text-secondary">
      <tr>
        <th class="py-1 font-normal" scope="col">server</th>
        <th class="font-normal" scope="col">configuration</th>
        <th class="font-normal" scope="col">duty</th>
        <th class="font-normal" scope="col">health</th>
        <th class="w-64 font-normal" scope="col">share: expected, last 10 s, last minute</th>
        <th class="text-right font-normal" scope="col">in flight</th>
        <th class="text-right font-normal" scope="col">failed</th>
        <th class="text-right font-normal" scope="col">retried</th>
        <th class="text-right font-normal" scope="col">5xx</th>
        <th scope="col"><span class="sr-only">actions</span></th>
      </tr>
    </thead>
    {#each status.pools as pool (pool.name)}
      <tbody>
        <tr class="border-t border-base-300">
          <th colspan="10" scope="rowgroup" class="py-1 text-left font-normal text-secondary">
            <a class="link font-semibold text-base-content" href={`/pools/${pool.name}`}>{pool.name}</a>
            {pool.algorithm}
            {#if pool.check}
              · {pool.check.name}: {pool.check.asks} · a failure is noticed after {length(pool.check.timing.noticed.best_ms)}
              to {length(pool.check.timing.noticed.worst_ms)}
            {:else}
              · no check: every server is taken to work
            {/if}
            {#if pool.server_tls !== 'plain'}· <span class:text-warning={pool.server_tls === 'unverified'}>{trustWords[pool.server_tls]}</span>{/if}
            {#if pool.held}· <span class="text-warning">◆ tier {pool.tier} goes on working, a lower one could</span>{:else if (pool.tier ?? 0) > 0}· <span
                class="text-warning">◆ tier {pool.tier} works</span
              >{/if}
            {#if pool.retries_withheld > 0}· <span title="retry_share">{pool.retries_withheld} retries withheld</span>{/if}
            {#if pool.waiting > 0}· <span class="text-warning">◆ {pool.waiting} wait, every server is full</span>{/if}
            {#if pool.servers.length === 0}· no servers: clients get nothing{/if}
          </th>
        </tr>
        {#each pool.servers as server (server.server)}
          {@const health = healthSign(server)}
          {@const duty = dutySign(server)}
          <tr class="align-baseline hover:bg-base-200" data-server={server.server}>
            <th scope="row" class="py-0.5 pl-3 text-left font-semibold">{shortName(server.server)}</th>
            <td
              >{server.address} weight {server.weight}{server.tier > 0 ? ` tier ${server.tier}` : ''}{server.ramp !== null
                ? ` · ramp ${Math.round(server.ramp * 100)} %`
                : ''}{server.full ? ' · ◆ full' : ''}</td
            >
            <td class={`whitespace-nowrap ${duty.tone}`} data-testid="duty">{duty.glyph} {duty.word}</td>
            <td data-testid="health">
              <span class={health.tone}>{health.glyph} {health.word}</span>
              {#if server.health.checked}<span class="text-secondary">{lasting(server, status)}</span>{/if}
              {#if why(server)}<div class="max-w-md text-secondary">{why(server)}</div>{/if}
            </td>
            <td class="pr-4">
              <Share expected={server.expected} goesBy={pool.shares_go_by} observed={server.observed.ten_seconds.share} minute={server.observed.minute.share} />
            </td>
            <td class="text-right"
              >{server.in_flight}{#if server.adaptive_limit !== null}
                <span class="text-secondary" title="as many as its response times let it have (adaptive_limit)">of {server.adaptive_limit}</span>{/if}</td
            >
            <td class="text-right" class:text-warning={server.observed.minute.failed > 0}>{server.observed.minute.failed}</td>
            <td class="text-right" class:text-warning={server.observed.minute.retried > 0}>{server.observed.minute.retried}</td>
            <td class="text-right" class:text-warning={server.observed.minute.errors > 0}>{server.observed.minute.errors}</td>
            <td class="whitespace-nowrap text-right">
              {#if server.health.checked}<button class="btn btn-xs whitespace-nowrap" onclick={() => onprobes(server)} aria-label={`Probes of ${server.server}`}
                  >{server.health.state === 'up' ? 'Probes …' : 'Why? …'}</button
                >{/if}
              <button class="btn btn-xs whitespace-nowrap" onclick={() => onduty(server)} aria-label={`Duty of ${server.server}`}>Duty …</button>
            </td>
          </tr>
        {/each}
      </tbody>
    {/each}
  </table>
  {#each status.frontends.filter((it) => it.bad_handshakes > 0) as frontend (frontend.name)}
    <p class="text-secondary">
      frontend {frontend.name}, last minute: {frontend.bad_handshakes} TLS handshake{frontend.bad_handshakes === 1 ? '' : 's'} failed, {frontend.handshakes +
        frontend.resumed} did not{frontend.bad_handshake ? `; the last one: ${frontend.bad_handshake}` : ''}
    </p>
  {/each}
  {#each status.frontends.filter((it) => it.wrong_protocol > 0) as frontend (frontend.name)}
    <p class="text-secondary">
      frontend {frontend.name}, last minute: {frontend.wrong_protocol}
      {frontend.tls ? 'came in plain text, and it speaks TLS' : 'spoke TLS, and it has no certificates'}
    </p>
  {/each}
  {#each status.frontends.filter((it) => it.unavailable + it.unanswered + it.refused + it.cut_for_memory > 0) as frontend (frontend.name)}
    <p class="mt-2 text-warning">
      frontend {frontend.name}, last minute: {frontend.unavailable} answered 503, {frontend.unanswered} answered 502/504 or broken off, {frontend.refused} refused{frontend.cut_for_memory >
      0
        ? `, ${frontend.cut_for_memory} ended for the memory they held`
        : ''}; {rate(frontend.per_second)} requests/s, {frontend.connections} clients
    </p>
  {/each}
</section>
