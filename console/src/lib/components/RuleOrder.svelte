<script lang="ts">
  import { useAnswers } from '../api/useAnswer'
  import Alert from './Alert.svelte'
  import DataTable from './DataTable.svelte'
  import GoLive from './GoLive.svelte'
  import { objects, ruleCounts, words } from '../api/call'
  import type { Edit, ObjectView, RuleCounts } from '../api/types'
  import { announcement } from '../desk/announce.svelte'
  import { desk, type Outlook } from '../desk/desk.svelte'
  import { ago } from '../format/format'
  import { live } from '../live/live.svelte'

  // The rules of a frontend in order, with what they counted; the order can be changed by mouse and by keyboard, and examples beside it say what
  // would become of them.
  let { frontend, listed }: { frontend: string; listed: string[] } = $props()

  const MOST = 1000

  let order = $state.raw<string[] | null>(null)
  let counts = $state.raw<RuleCounts | null>(null)
  let known = $state.raw<ObjectView[]>([])
  let examples = $state.raw<ObjectView[]>([])
  let outlook = $state.raw<Outlook | null>(null)
  let trouble = $state('')
  let turn = $state(0)
  let dragged = $state('')

  const rules = $derived(order ?? listed)
  const isChanged = $derived(order !== null && order.join() !== listed.join())
  const edits = $derived<Edit[]>(isChanged ? [{ do: 'change', object: `frontends.${frontend}`, keys: { rules } }] : [])
  const others = $derived(known.filter((rule) => !rules.includes(rule.name)))
  const now = $derived(live.status?.at ?? new Date().toISOString())

  $effect(() => {
    void turn
    const of = frontend
    return useAnswers(
      ruleCounts(of),
      (answer) => {
        ;[counts, trouble] = [answer, '']
      },
      (error) => (trouble = words(error)),
      () => (turn += 1),
    )
  })

  $effect(() => {
    void desk.made
    void live.changes
    const of = frontend
    let current = true
    const ask = (kind: string) => objects({ kind, limit: MOST, ...(desk.draft ? { draft: desk.draft } : {}) })
    Promise.all([ask('rule'), ask('example')]).then(
      ([found, tests]) => {
        if (!current) return
        known = found.objects
        examples = tests.objects.filter((it) => it.keys.frontend === of)
      },
      (error) => {
        if (current) trouble = words(error)
      },
    )
    return () => {
      current = false
    }
  })

  function place(name: string, to: number) {
    const without = rules.filter((it) => it !== name)
    const at = Math.max(0, Math.min(to, without.length))
    order = [...without.slice(0, at), name, ...without.slice(at)]
    announcement.say(`${name} is rule ${at + 1} of ${order.length}.`)
  }

  function byKey(event: KeyboardEvent, name: string, at: number) {
    if (!event.altKey || (event.key !== 'ArrowUp' && event.key !== 'ArrowDown')) return
    event.preventDefault()
    place(name, event.key === 'ArrowUp' ? at - 1 : at + 1)
  }

  const counted = (name: string) => counts?.rules.find((it) => it.name === name)
  const summary = (name: string) => known.find((it) => it.name === name)?.summary ?? ''
  const share = (matches: number) => (counts && counts.requests > 0 ? `${((100 * matches) / counts.requests).toFixed(1)} %` : '')
  /** What is wrong with an example by the order as it is now. */
  const broken = (name: string) => (isChanged ? outlook?.mistakes.find((it) => it.path === `examples.${name}`) : undefined)
</script>

<section class="mb-4 rounded-box border border-base-300 p-3" aria-labelledby="rules-title">
  <h3 id="rules-title" class="mb-1 font-semibold">Rules, in the order in which they are asked</h3>
  {#if trouble}<Alert class="mb-2">{trouble}</Alert>{/if}
  {#if rules.length > 0}
    <DataTable
      columns={[
        { name: 'place', spoken: true },
        'rule',
        'when: then',
        { name: 'requests', right: true },
        { name: 'share', right: true },
        'last',
        { name: 'move', spoken: true },
      ]}
      testid="rule-order"
    >
      {#each rules as name, at (name)}
        <tr
          draggable="true"
          ondragstart={() => (dragged = name)}
          ondragover={(event) => event.preventDefault()}
          ondrop={(event) => {
            event.preventDefault()
            if (dragged && dragged !== name) place(dragged, at)
            dragged = ''
          }}
          class={dragged === name ? 'opacity-50' : ''}
        >
          <td class="cursor-grab text-secondary">{at + 1}</td>
          <td><a class="link font-semibold" href={`/rules/${name}`}>{name}</a></td>
          <td class="break-words">{summary(name)}</td>
          <td class="text-right">{counted(name)?.matches ?? ''}</td>
          <td class="text-right whitespace-nowrap">{share(counted(name)?.matches ?? 0)}</td>
          <td class="whitespace-nowrap text-secondary"
            >{#if counted(name)}{counted(name)?.last ? `${ago(counted(name)?.last ?? '', now)} ago` : 'never'}{/if}{#if counted(name)?.unmet_days}<span
                class="ml-1 badge badge-sm badge-warning"
                title="No request has met it for so long: it may be of no use">none for {counted(name)?.unmet_days} days</span
              >{/if}</td
          >
          <td class="text-right whitespace-nowrap">
            <button
              class="btn btn-xs"
              disabled={at === 0}
              aria-label={`Move ${name} up`}
              title="Earlier (Alt and the arrow up)"
              onkeydown={(event) => byKey(event, name, at)}
              onclick={() => place(name, at - 1)}>↑</button
            >
            <button
              class="btn btn-xs"
              disabled={at === rules.length - 1}
              aria-label={`Move ${name} down`}
              title="Later (Alt and the arrow down)"
              onkeydown={(event) => byKey(event, name, at)}
              onclick={() => place(name, at + 1)}>↓</button
            >
            <button class="btn btn-xs" aria-label={`Take ${name} out`} onclick={() => (order = rules.filter((it) => it !== name))}>✕</button>
          </td>
        </tr>
      {/each}
    </DataTable>
    <p class="mt-1 text-secondary">The first rule that a request meets decides. A request that meets none goes to the pools of the frontend.</p>
  {:else}
    <p class="text-secondary">There is no rule: every request goes to the pools of the frontend.</p>
  {/if}
  {#if others.length > 0}
    <label class="mt-2 block"
      >Add a rule at the end<select
        class="select select-sm ml-2 w-56"
        value=""
        onchange={(event) => {
          order = [...rules, event.currentTarget.value]
          event.currentTarget.value = ''
        }}
      >
        <option value="">choose one</option>
        {#each others as rule (rule.name)}<option value={rule.name}>{rule.name}</option>{/each}
      </select></label
    >
  {/if}
  {#if examples.length > 0}
    <h4 class="mt-3 mb-1 font-semibold">Examples</h4>
    <ul data-testid="rule-examples">
      {#each examples as example (example.name)}
        {@const mistake = broken(example.name)}
        <li>
          <span class={mistake ? 'text-error' : 'text-success'}>{mistake ? '✕' : '✓'}</span>
          <a class="link" href={`/examples/${example.name}`}>{example.name}</a>
          <span class="text-secondary">{mistake ? `${mistake.found}; expected ${mistake.expected}` : 'holds'}</span>
        </li>
      {/each}
    </ul>
  {/if}
  {#if isChanged}
    <div class="mt-3 rounded-box border border-base-300 bg-base-200 p-3">
      <GoLive {edits} verb="Apply the order" onseen={(seen) => (outlook = seen)} onmade={() => (order = null)} />
      <button class="btn btn-xs mt-2" onclick={() => (order = null)}>Leave it as it was</button>
    </div>
  {/if}
</section>
