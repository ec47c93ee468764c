<script lang="ts">
  import type { Status } from '../api/types'
  import { fit, percent, rate, shortName } from '../format/format'
  import { dutySign, healthSign } from '../format/sign'
  import FlowList from './FlowList.svelte'
  import { BOX, LEFT, layOut, POOL, POOL_HALF, WIDTH } from './flow'

  let { status, ontry }: { status: Status; ontry: (frontend: string) => void } = $props()

  const flow = $derived(layOut(status))
</script>

{#if flow.pools.length === 0}
  <p class="py-8 text-center text-secondary">
    There is no frontend yet: clients have nowhere to connect. Make a <a class="link" href="/new-service">new service</a> in one step, or begin with a
    <a class="link" href="/pools">pool</a>, give it servers and a <a class="link" href="/checks">check</a>, then make a
    <a class="link" href="/frontends">frontend</a>; or write a document and run <code>merismos apply FILE --preview</code>.
  </p>
{:else}
  <div class="md:hidden"><FlowList {status} /></div>
  <div class="relative hidden overflow-x-auto md:block">
    <svg viewBox="0 0 {WIDTH} {flow.height}" class="w-full min-w-[44rem]" role="img" aria-label="Flow from frontends over pools to servers" data-testid="flow">
      {#each flow.ways as way (way.key)}
        <path d={way.band} class="fill-primary/25" data-way={way.key} />
      {/each}
      {#each flow.frontends as { frontend, middle } (frontend.name)}
        <rect
          x="0.5"
          y={middle - BOX / 2}
          width={LEFT}
          height={BOX}
          rx="4"
          class={frontend.trouble ? 'fill-base-100 stroke-error' : 'fill-base-200 stroke-base-300'}
        />
        <text x="10" y={middle - 4} class="fill-base-content font-semibold" font-size="13">
          <title>{frontend.name}</title>{frontend.trouble ? '✕ ' : ''}{fit(frontend.name, 20)}<tspan class="fill-secondary font-normal" font-size="11"
            >{` ${frontend.protocol}`}</tspan
          >
        </text>
        <text x="10" y={middle + 12} class="fill-secondary" font-size="11">
          {#if frontend.redirects}{fit(frontend.listen, 18)} · redirects to https{:else}{frontend.tls ? 'TLS ' : ''}{fit(
              frontend.listen,
              frontend.tls ? 18 : 22,
            )} · {rate(frontend.per_second)}
            {frontend.unit}s/s{/if}
        </text>
      {/each}
      {#each flow.pools as { pool, middle, ribbons } (pool.name)}
        {#each ribbons as ribbon (ribbon.server.server)}
          <path d={ribbon.observed} class="fill-primary/55" data-observed={ribbon.server.server} />
          {#if pool.shares_go_by === null}<path d={ribbon.expected} class="fill-none stroke-base-content" stroke-width="1" stroke-dasharray="3 2" />{/if}
        {/each}
        <rect
          x={POOL - POOL_HALF}
          y={middle - BOX / 2}
          width={POOL_HALF * 2}
          height={BOX}
          rx="4"
          class={pool.eligible === 0 ? 'fill-base-100 stroke-error' : 'fill-base-200 stroke-base-300'}
        />
        <text x={POOL} y={middle - 4} class="fill-base-content font-semibold" font-size="13" text-anchor="middle"
          ><title>{pool.name}</title>{fit(pool.name, 24)}</text
        >
        <text x={POOL} y={middle + 12} class={pool.eligible === 0 ? 'fill-error' : 'fill-secondary'} font-size="11" text-anchor="middle">
          {pool.algorithm} · {pool.eligible}/{pool.servers.length} eligible
        </text>
        {#each ribbons as ribbon (ribbon.server.server)}
          {@const health = healthSign(ribbon.server)}
          {@const duty = dutySign(ribbon.server)}
          {@const name = shortName(ribbon.server.server)}
          {@const isShort = name.length <= 6}
          <text x={ribbon.labelX} y={ribbon.labelY} font-size="12">
            <title>{ribbon.server.server}</title>
            <tspan class={`${health.tone} fill-current`}>{health.glyph}</tspan>
            <tspan class="fill-base-content font-semibold">{fit(name, 11)}</tspan>
            {#if duty.glyph}<tspan class={`${duty.tone} fill-current`}>{duty.glyph}{isShort ? ` ${duty.word}` : ''}</tspan>{/if}
            {#if ribbon.server.reason === 'standby'}
              <tspan class="fill-secondary">{isShort ? 'stands by' : '◦'}</tspan>
            {:else if !ribbon.server.eligible && !duty.glyph}
              {#if isShort}<tspan class={`${health.tone} fill-current`}>{health.word}</tspan>{/if}
            {/if}
          </text>
          <text x={WIDTH - 4} y={ribbon.labelY} class="fill-secondary" font-size="11" text-anchor="end">
            {percent(ribbon.server.observed.ten_seconds.share)}{pool.shares_go_by === null ? ` of ${percent(ribbon.server.expected)}` : ''}
          </text>
        {/each}
      {/each}
      {#each flow.ways as way (way.key)}
        <text x={POOL - POOL_HALF - 5} y={way.partY} class="fill-base-content" font-size="11" text-anchor="end">{way.part}</text>
      {/each}
    </svg>
  </div>
{/if}
<div class="mt-1 flex flex-wrap gap-2">
  <a class="btn btn-primary btn-sm" href="/new-service">New service …</a>
  {#each status.frontends.filter((it) => !it.redirects) as frontend (frontend.name)}
    <button class="btn btn-sm" title={frontend.name} aria-label={`Try ${frontend.name} …`} onclick={() => ontry(frontend.name)}
      >Try {fit(frontend.name, 32)} …</button
    >
  {/each}
</div>
