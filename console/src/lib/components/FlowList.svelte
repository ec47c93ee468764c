<script lang="ts">
  import type { Status } from '../api/types'
  import { rate, shortName } from '../format/format'
  import { dutySign, healthSign } from '../format/sign'
  import { layOut } from './flow'
  import Share from './Share.svelte'

  // The flow as a list, for windows that are too narrow for the drawing: frontends, their pools, every server of those.
  let { status }: { status: Status } = $props()

  const flow = $derived(layOut(status))
</script>

<ul class="space-y-3">
  {#each flow.pools as { pool } (pool.name)}
    {@const from = flow.frontends.filter(({ frontend }) => flow.ways.some((way) => way.key === `${frontend.name}/${pool.name}`))}
    <li>
      {#each from as { frontend } (frontend.name)}
        {@const way = flow.ways.find((known) => known.key === `${frontend.name}/${pool.name}`)}
        <div class={frontend.trouble ? 'text-error' : ''}>
          {frontend.trouble ? '✕ ' : ''}<span class="font-semibold">{frontend.name}</span>
          <span class="text-secondary"
            >{frontend.protocol}{frontend.tls ? ' over TLS' : ''}{frontend.client_certificates ? `, client certificates ${frontend.client_certificates}` : ''}
            {frontend.listen} · {rate(frontend.per_second)}
            {frontend.unit}s/s{way?.part ? ` · ${way.part}` : ''} →</span
          >
        </div>
      {/each}
      <div class={pool.eligible === 0 ? 'text-error' : ''}>
        <span class="font-semibold">{pool.name}</span>
        <span class={pool.eligible === 0 ? '' : 'text-secondary'}>{pool.algorithm} · {pool.eligible}/{pool.servers.length} eligible</span>
      </div>
      <ul class="ml-3">
        {#each pool.servers as server (server.server)}
          {@const health = healthSign(server)}
          {@const duty = dutySign(server)}
          <li class="flex flex-wrap items-baseline gap-x-2">
            <span class={health.tone}>{health.glyph}</span>
            <span class="min-w-20 font-semibold">{shortName(server.server)}</span>
            {#if duty.glyph}<span class={duty.tone}>{duty.glyph} {duty.word}</span>{:else if server.reason === 'standby'}<span class="text-secondary"
                >stands by</span
              >{/if}
            <span class="ml-auto"
              ><Share
                expected={server.expected}
                goesBy={pool.shares_go_by}
                observed={server.observed.ten_seconds.share}
                minute={server.observed.minute.share}
              /></span
            >
          </li>
        {/each}
      </ul>
    </li>
  {/each}
  {#each status.frontends.filter((it) => it.redirects) as frontend (frontend.name)}
    <li>
      <span class="font-semibold">{frontend.name}</span>
      <span class="text-secondary">{frontend.protocol} {frontend.listen} · redirects to https · {rate(frontend.per_second)} {frontend.unit}s/s</span>
    </li>
  {/each}
</ul>
