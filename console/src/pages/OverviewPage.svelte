<script lang="ts">
  import type { ServerStatus } from '../lib/api/types'
  import DutyDialog from '../lib/components/DutyDialog.svelte'
  import Facts from '../lib/components/Facts.svelte'
  import Flow from '../lib/components/Flow.svelte'
  import PoolRows from '../lib/components/PoolRows.svelte'
  import ProbesDialog from '../lib/components/ProbesDialog.svelte'
  import Pools from '../lib/components/Pools.svelte'
  import TrialDialog from '../lib/components/TrialDialog.svelte'
  import { live } from '../lib/live/live.svelte'

  let server = $state<ServerStatus | null>(null)
  let probed = $state<string | null>(null)
  let frontend = $state<string | null>(null)

  live.look(null)
</script>

{#if live.status}
  {@const status = live.status}
  {#if status.shortened}
    <div class="grid grid-cols-[minmax(0,1fr)] gap-3 lg:grid-cols-[minmax(0,1fr)_22rem]">
      <PoolRows {status} />
      <Facts facts={live.facts} />
    </div>
  {:else}
    <div class="grid grid-cols-[minmax(0,1fr)] gap-3 lg:grid-cols-[minmax(0,1fr)_22rem]">
      <section class="rounded-box border border-base-300 bg-base-100 p-3" aria-labelledby="flow-title">
        <div class="mb-1 flex flex-wrap items-baseline gap-x-4">
          <h2 id="flow-title" class="font-semibold">Where traffic goes, last 10 s</h2>
          <p class="text-secondary">filled: what each server gets · outline: what it should get</p>
        </div>
        <Flow {status} ontry={(name) => (frontend = name)} />
      </section>
      <Facts facts={live.facts} />
    </div>
    <Pools {status} onduty={(chosen) => (server = chosen)} onprobes={(chosen) => (probed = chosen.server)} />
  {/if}
{/if}

{#if server}
  <DutyDialog servers={[server.server]} onclose={() => (server = null)} />
{/if}
{#if probed}
  <ProbesDialog server={probed} onclose={() => (probed = null)} />
{/if}
{#if frontend}
  <TrialDialog {frontend} onclose={() => (frontend = null)} />
{/if}
