<script lang="ts">
  import type { ServerStatus, Status } from '../api/types'
  import { live } from '../live/live.svelte'
  import DutyDialog from './DutyDialog.svelte'
  import Facts from './Facts.svelte'
  import Flow from './Flow.svelte'
  import Pools from './Pools.svelte'
  import TopBar from './TopBar.svelte'
  import TrialDialog from './TrialDialog.svelte'

  let { status }: { status: Status } = $props()

  let server = $state<ServerStatus | null>(null)
  let frontend = $state<string | null>(null)
</script>

<div class="flex min-h-screen flex-col gap-3 bg-base-200 p-3">
  <TopBar {status} />
  <div class="grid gap-3 lg:grid-cols-[minmax(0,1fr)_22rem]">
    <section class="rounded-box border border-base-300 bg-base-100 p-3" aria-labelledby="flow-title">
      <div class="mb-1 flex flex-wrap items-baseline gap-x-4">
        <h2 id="flow-title" class="font-semibold">Where traffic goes, last 10 s</h2>
        <p class="text-secondary">filled: what each server gets · outline: what it should get</p>
      </div>
      <Flow {status} ontry={(name) => (frontend = name)} />
    </section>
    <Facts facts={live.facts} />
  </div>
  <Pools {status} onduty={(chosen) => (server = chosen)} />
</div>

{#if server}
  <DutyDialog {server} onclose={() => (server = null)} />
{/if}
{#if frontend}
  <TrialDialog {frontend} onclose={() => (frontend = null)} />
{/if}
