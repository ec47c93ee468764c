<script lang="ts">
  import { useAnswers } from '../api/useAnswer'
  import Alert from './Alert.svelte'
  import DataTable from './DataTable.svelte'
  import { machine, words } from '../api/call'
  import type { MachineFinding, MachineReport } from '../api/types'
  import { length } from '../format/format'

  // Whether the machine of the node that answers is enough for it: what runs short first, with what helps.

  /** How often it is looked at while the page is open. */
  const LOOK_EVERY_MS = 10_000

  let report = $state.raw<MachineReport | null>(null)
  let trouble = $state('')
  let turn = $state(0)
  let all = $state(false)

  $effect(() => {
    const timer = setInterval(() => (turn += 1), LOOK_EVERY_MS)
    return () => clearInterval(timer)
  })
  $effect(() => {
    void turn
    return useAnswers(
      machine(),
      (answer) => {
        ;[report, trouble] = [answer, '']
      },
      (error) => (trouble = words(error)),
      () => (turn += 1),
    )
  })

  const signs: Record<MachineFinding['state'], { mark: string; colour: string; says: string }> = {
    short: { mark: '✕', colour: 'text-error', says: 'short' },
    near: { mark: '▲', colour: 'text-warning', says: 'near its end' },
    advice: { mark: '○', colour: '', says: 'could be better' },
    enough: { mark: '●', colour: 'text-success', says: 'enough' },
    unknown: { mark: '?', colour: 'text-secondary', says: 'unknown' },
  }
  const findings = $derived(report?.findings ?? [])
  const shown = $derived(all ? findings : findings.filter((it) => it.help.length > 0))
  const count = (state: MachineFinding['state']) => findings.filter((it) => it.state === state).length
  /** Whether a line is one that `sysctl` takes. */
  const isSetting = (line: string) => /^[a-z]+[.][\w.]+ = /.test(line)
</script>

{#if trouble}<Alert class="mb-3">{trouble}</Alert>{/if}
{#if report}
  {#if shown.length > 0}
    <DataTable columns={['state', 'what', 'found', 'what helps']} testid="machine">
      {#each shown as it (it.subject + it.found)}
        <tr>
          <td class="py-1 pr-4 whitespace-nowrap"><span class={signs[it.state].colour}>{signs[it.state].mark}</span> {signs[it.state].says}</td>
          <td class="pr-4 whitespace-nowrap">{it.subject.replaceAll('-', ' ')}</td>
          <td class="pr-4">
            {it.found}{#if it.wanted}<span class="text-secondary">; wanted: {it.wanted}</span>{/if}
            {#if it.help.length > 0}<p class="text-secondary">{it.why}</p>{/if}
          </td>
          <td>
            {#each it.help as line (line)}
              <p>
                {#if isSetting(line)}<code>{line}</code>{:else}{line.replaceAll('`', '')}{/if}
              </p>
            {/each}
          </td>
        </tr>
      {/each}
    </DataTable>
  {/if}
  <div class="mt-2 flex items-center gap-4 text-secondary">
    <p>
      {#if all}All {findings.length} parts.{:else}<span class="text-success">●</span> {count('enough')} parts are enough.{/if}
      {#if count('unknown') > 0}Of {count('unknown')} this machine says nothing.{/if}
      {#if report.within_ms != null}Losses are those of the last {length(report.within_ms)}.{/if}
    </p>
    <button class="btn btn-xs" onclick={() => (all = !all)}>{all ? 'Only what could be better' : 'All parts'}</button>
  </div>
{/if}
