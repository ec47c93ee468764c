<script lang="ts">
  import { orderRoll, reportWork, rolls, words } from '../api/call'
  import type { Roll, RollStep } from '../api/types'
  import { useAnswer } from '../api/useAnswer'
  import { ago, moment } from '../format/format'
  import { live } from '../live/live.svelte'
  import Alert from './Alert.svelte'
  import Card from './Card.svelte'
  import DataTable from './DataTable.svelte'
  import RollForm from './RollForm.svelte'

  const STEPS: Record<RollStep, string> = {
    waiting: '○ waiting',
    draining: '▼ draining',
    ready: '▽ ready for work',
    working: '▽ being worked on',
    returning: '◑ returning',
    soaking: '◑ watched',
    done: '● done',
    skipped: '○ left alone',
    failed: '✕ failed',
  }
  const COLOURS: Partial<Record<RollStep, string>> = {
    draining: 'text-warning',
    ready: 'text-warning',
    working: 'text-warning',
    returning: 'text-warning',
    soaking: 'text-warning',
    done: 'text-success',
    failed: 'text-error',
  }

  let found = $state.raw<Roll[] | null>(null)
  let trouble = $state('')
  let isAdding = $state(false)
  let stopping = $state<number | null>(null)
  let made = $state(0)

  // Every step is an event. How far one is that goes on by itself is not: it is asked for each second.
  const MOVING: RollStep[] = ['draining', 'returning', 'soaking']
  const isMoving = $derived((found ?? []).some((roll) => roll.servers.some((it) => MOVING.includes(it.step))))
  $effect(() => {
    void made
    void live.changes
    void live.orders
    if (isMoving) void live.status?.at
    return useAnswer(
      rolls(),
      (answer) => (found = answer.rolls),
      (error) => (trouble = words(error)),
    )
  })

  async function act(order: () => Promise<Roll>) {
    stopping = null
    try {
      await order()
      trouble = ''
    } catch (error) {
      trouble = words(error)
    }
    made += 1
  }

  const now = $derived(live.status?.at ?? new Date().toISOString())
  const count = (roll: Roll, step: RollStep) => roll.servers.filter((it) => it.step === step).length
</script>

<Card label="Rolls">
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
    <h2 class="text-base font-semibold">Rolls</h2>
    <p class="text-secondary">Work on many servers, one after the other: drain, work, return, watch, next.</p>
    <button class="btn btn-primary btn-sm ml-auto" aria-expanded={isAdding} onclick={() => (isAdding = !isAdding)}>New roll</button>
  </div>
  {#if isAdding}
    <section class="mb-4 rounded-box border border-base-300 p-3" aria-label="New roll">
      <RollForm
        onmade={() => {
          isAdding = false
          made += 1
        }}
      />
    </section>
  {/if}
  {#if trouble}<Alert>{trouble}</Alert>{/if}
  {#each found ?? [] as roll (roll.id)}
    <details class="border-t border-base-300 py-2" open={!roll.is_over} data-roll={roll.id}>
      <summary class="cursor-pointer">
        <span class="font-semibold">Roll {roll.id}</span>
        <span class={roll.state === 'stopped' ? 'text-error' : roll.state === 'paused' ? 'text-warning' : roll.state === 'finished' ? 'text-success' : ''}
          >{roll.state}{roll.why ? `: ${roll.why}` : ''}</span
        >
        · {count(roll, 'done')} of {roll.servers.length} done · {roll.plan.reason} <span class="text-secondary">by {roll.who}, {moment(roll.at)}</span>
      </summary>
      <div class="mt-2 overflow-x-auto">
        <DataTable columns={['server', 'address', 'step', 'for', '', { name: 'what can be done', spoken: true }]}>
          {#each roll.servers as it, place (it.server)}
            <tr>
              <th scope="row" class="py-1 text-left font-semibold">{it.server}</th>
              <td>{roll.addresses[place] ?? '(removed)'}</td>
              <td class={['whitespace-nowrap', COLOURS[it.step]]}>{STEPS[it.step]}</td>
              <td class="whitespace-nowrap">{it.step === 'waiting' ? '' : ago(it.since, now)}</td>
              <td>{it.note ?? ''}</td>
              <td class="text-right whitespace-nowrap">
                {#if it.step === 'ready' || it.step === 'working'}
                  <button class="btn btn-primary btn-xs" onclick={() => void act(() => reportWork(roll.id, it.server, 'done'))}
                    >Work on {it.server} is done</button
                  >
                  <button class="btn btn-xs" aria-label={`Work on ${it.server} failed`} onclick={() => void act(() => reportWork(roll.id, it.server, 'failed'))}
                    >It failed</button
                  >
                {/if}
              </td>
            </tr>
          {/each}
        </DataTable>
      </div>
      {#if roll.state === 'running' || roll.state === 'paused'}
        <div class="mt-2 flex gap-2">
          {#if roll.state === 'running'}<button class="btn btn-xs" onclick={() => void act(() => orderRoll(roll.id, 'pause'))}>Pause roll {roll.id}</button>
          {:else}<button class="btn btn-xs" onclick={() => void act(() => orderRoll(roll.id, 'resume'))}>Resume roll {roll.id}</button>{/if}
          {#if stopping === roll.id}
            <button class="btn btn-error btn-xs" onclick={() => void act(() => orderRoll(roll.id, 'stop'))}>Stop it now</button>
            <button class="btn btn-xs" onclick={() => (stopping = null)}>Leave it</button>
          {:else}<button class="btn btn-xs" onclick={() => (stopping = roll.id)}>Stop roll {roll.id}</button>{/if}
        </div>
      {/if}
    </details>
  {:else}
    {#if found}<p class="py-4 text-center text-secondary">No roll was begun yet.</p>{/if}
  {/each}
</Card>
