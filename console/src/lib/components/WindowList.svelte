<script lang="ts">
  import { removeWindow, windows, words } from '../api/call'
  import type { MaintenanceWindow, Windows } from '../api/types'
  import { useAnswer } from '../api/useAnswer'
  import { ago, moment } from '../format/format'
  import { live } from '../live/live.svelte'
  import Alert from './Alert.svelte'
  import Card from './Card.svelte'
  import DataTable from './DataTable.svelte'
  import WindowForm from './WindowForm.svelte'
  import WindowStrip from './WindowStrip.svelte'

  const DAYS = 30

  let found = $state.raw<Windows | null>(null)
  let trouble = $state('')
  let isAdding = $state(false)
  let removing = $state<string | null>(null)
  let made = $state(0)

  $effect(() => {
    void made
    void live.changes
    void live.orders
    return useAnswer(
      windows(DAYS),
      (answer) => {
        ;[found, trouble] = [answer, '']
      },
      (error) => {
        trouble = words(error)
      },
    )
  })

  async function remove(name: string) {
    removing = null
    try {
      await removeWindow(name)
      made += 1
    } catch (error) {
      trouble = words(error)
    }
  }

  function doing(window: MaintenanceWindow, now: string): string {
    if (window.kept_in) return `▲ not begun: ${window.kept_in}`
    if (window.state === 'open') return '▼ open'
    if (window.state === 'draining') return '▼ its servers drain'
    if (window.state === 'over') return 'over'
    return window.drains_at ? `drains in ${ago(now, window.drains_at)}` : 'ahead'
  }
  const of = ({ plan }: MaintenanceWindow) => (plan.host ? `host ${plan.host}` : plan.label ? `label ${plan.label}` : null)
</script>

<Card label="Windows">
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">Windows</h2>
    <p class="text-secondary">Their servers drain in time, and return at the end if they are healthy.</p>
    <a class="link ml-auto" href={`/api/v1/windows.ics?days=${DAYS}`} download="windows.ics">Calendar file</a>
    <button class="btn btn-primary btn-sm" aria-expanded={isAdding} onclick={() => (isAdding = !isAdding)}>New window</button>
  </div>
  {#if isAdding}
    <section class="mb-4 rounded-box border border-base-300 p-3" aria-label="New window">
      <WindowForm
        onmade={() => {
          isAdding = false
          made += 1
        }}
      />
    </section>
  {/if}
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#if found && found.windows.length === 0}
    <p class="py-4 text-center text-secondary">No window is planned.</p>
  {:else if found}
    {@const from = found.from}
    <WindowStrip windows={found.windows} {from} />
    <div class="mt-3 overflow-x-auto">
      <DataTable columns={['window', 'state', 'servers', 'next', 'repeats', 'reason', { name: 'what can be done', spoken: true }]}>
        {#each found.windows as it (it.name)}
          {@const next = it.times[0]}
          <tr data-window={it.name}>
            <th scope="row" class="py-1 text-left font-semibold">{it.name}</th>
            <td class={it.kept_in ? 'text-error' : it.state === 'open' || it.state === 'draining' ? 'text-warning' : ''}>{doing(it, from)}</td>
            <td
              >{of(it) ? `${of(it)}: ` : ''}{it.servers.slice(0, 4).join(', ') || 'none'}{it.servers.length > 4 ? ` and ${it.servers.length - 4} more` : ''}</td
            >
            <td class="whitespace-nowrap">{next ? `${moment(next.start)}, for ${it.plan.length}` : `not within ${DAYS} days`}</td>
            <td>{it.plan.repeat ?? 'once'}<span class="text-secondary">, {it.plan.zone}</span></td>
            <td>{it.plan.reason} <span class="text-secondary">by {it.who}</span></td>
            <td class="text-right whitespace-nowrap">
              {#if removing === it.name}
                <button class="btn btn-error btn-xs" onclick={() => void remove(it.name)}>Remove {it.name} now</button>
                <button class="btn btn-xs" onclick={() => (removing = null)}>Leave it</button>
              {:else}
                <button class="btn btn-xs" aria-label={`Remove ${it.name}`} onclick={() => (removing = it.name)}>Remove</button>
              {/if}
            </td>
          </tr>
        {/each}
      </DataTable>
    </div>
  {/if}
</Card>
