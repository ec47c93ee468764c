<script lang="ts">
  import { useAnswers } from '../api/useAnswer'
  import Alert from './Alert.svelte'
  import { announcement as askOne, announcements as askAll, words } from '../api/call'
  import type { AnnouncedRoute, AnnouncementDetail, AnnouncementNode, AnnouncementStatus } from '../api/types'
  import { ago } from '../format/format'
  import { live } from '../live/live.svelte'

  // What nodes announce to routers: of all objects, or of one with the sessions of this node.
  let { only }: { only?: string } = $props()

  let all = $state.raw<AnnouncementStatus[] | null>(null)
  let detail = $state.raw<AnnouncementDetail | null>(null)
  let trouble = $state('')
  let turn = $state(0)

  $effect(() => {
    void turn
    void live.changes
    return useAnswers<AnnouncementStatus[]>(
      only === undefined
        ? askAll().then((answer) => answer.announcements)
        : askOne(only).then((answer) => {
            detail = answer
            return [answer.announcement]
          }),
      (answer) => {
        ;[all, trouble] = [answer, '']
      },
      (error) => (trouble = words(error)),
      () => (turn += 1),
    )
  })

  const now = $derived(live.status?.at ?? new Date().toISOString())

  function says(node: AnnouncementNode, route: AnnouncedRoute): { mark: string; colour: string; says: string } {
    const to = `to ${route.routers} of ${route.of_routers} ${route.of_routers === 1 ? 'router' : 'routers'}`
    if (!node.is_alive) return { mark: '✕', colour: 'text-error', says: 'gone' }
    if (route.withheld === 'node-leaves') return { mark: '○', colour: '', says: 'withdrawn: the node is drained' }
    if (route.withheld === 'no-listener') return { mark: '✕', colour: 'text-error', says: 'not announced: no frontend listens at it' }
    if (route.withheld) return { mark: '✕', colour: 'text-error', says: `not announced: too few servers of ${node.lost.join(', ')}` }
    if (route.communities.includes('65535:0')) return { mark: '▲', colour: 'text-warning', says: `${to}, leaving` }
    if (route.routers < route.of_routers || route.routers === 0) return { mark: '✕', colour: 'text-error', says: to }
    if (node.lost.length > 0) return { mark: '▲', colour: 'text-warning', says: `${to}, after other nodes` }
    return { mark: '●', colour: 'text-success', says: to }
  }

  /** What routers choose by. */
  function chosenBy(route: AnnouncedRoute): string {
    return [
      route.prepend > 0 ? `path longer by ${route.prepend}` : '',
      route.med === null || route.med === undefined ? '' : `MED ${route.med}`,
      route.communities.length > 0 ? `communities ${route.communities.join(' ')}` : '',
    ]
      .filter((part) => part !== '')
      .join(', ')
  }
</script>

{#if trouble}<Alert class="mb-3">{trouble}</Alert>{/if}
{#each all ?? [] as it (it.name)}
  <section class="mb-4" aria-label={`Who announces ${it.name}`} data-testid="announcement" data-announcement={it.name}>
    <div class="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t border-base-300 pt-2">
      <h3 class="font-semibold">
        {#if only === undefined}<a class="link" href={`/announce/${it.name}`}>{it.name}</a>{:else}Who announces it{/if}
      </h3>
      <span class="text-secondary">AS {it.as_number} to AS {it.peer_as}, routers {it.peers.join(', ')}</span>
    </div>
    <table class="mt-1 w-full">
      <thead class="text-left text-secondary">
        <tr><th>node</th><th>address</th><th>announced</th><th>what routers choose by</th><th>sessions</th></tr>
      </thead>
      <tbody>
        {#each it.nodes as node (node.node)}
          <tr class="border-t border-base-200 align-top" data-testid="announcement-node" data-node={node.node}>
            <td class="w-40 py-0.5 pr-3"
              >{node.node}
              {#if node.is_here}<span class="text-secondary">(this one)</span>{/if}</td
            >
            <td class="w-44 pr-3">
              {#each node.routes as route (route.address)}<div>{route.address}</div>{:else}{it.addresses.join(', ')}{/each}
            </td>
            <td class="pr-3">
              {#each node.routes as route (route.address)}
                {@const state = says(node, route)}
                <div><span class={state.colour}>{state.mark}</span> {state.says}</div>
              {:else}
                {#if node.is_alive}<span class="text-secondary">it has not said</span>{:else}<span class="text-error">✕</span> gone{/if}
              {/each}
            </td>
            <td class="pr-3">
              {#each node.routes as route (route.address)}<div>{route.withheld ? '' : chosenBy(route) || '–'}</div>{/each}
            </td>
            <td class="w-80 whitespace-nowrap">
              {#each node.sessions as session (session.peer)}
                <div>
                  {#if session.state === 'established'}<span class="text-success">●</span>{:else}<span class="text-error">✕</span>{/if}
                  {session.peer}
                  <span class="text-secondary">{session.state} for {ago(session.since, now)}</span>
                </div>
              {/each}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
    <ul>
      {#each it.nodes as node (node.node)}
        {#each node.troubles as what (what)}<li class="text-error">✕ {node.node}: {what}</li>{/each}
        {#each node.sessions.filter((session) => session.trouble) as session (session.peer)}
          <li class="text-error">✕ {node.node}: no session with router {session.peer}: {session.trouble}</li>
        {/each}
        {#if node.lost.length > 0}<li class="text-warning">▲ {node.node}: too few servers are eligible of {node.lost.join(', ')}, as seen from there</li>{/if}
      {/each}
    </ul>
  </section>
{:else}
  {#if all && only === undefined}<p class="mb-3 text-secondary">No addresses are announced to routers.</p>{/if}
{/each}
{#if detail && only !== undefined}
  <section class="mb-4" aria-label="Sessions of this node">
    <h3 class="mb-1 font-semibold">Sessions of this node</h3>
    {#if detail.sessions.length > 0}
      <table class="w-full">
        <thead class="text-left text-secondary">
          <tr><th>router</th><th>from</th><th>its identifier</th><th>hold time</th><th>announced</th><th>ended</th><th>not had</th><th>routes ignored</th></tr>
        </thead>
        <tbody>
          {#each detail.sessions as session (session.peer)}
            <tr>
              <td>{session.peer}</td>
              <td>{session.local ?? '–'}</td>
              <td>{session.identifier ?? '–'}</td>
              <td>{session.hold_time_s === null || session.hold_time_s === undefined ? '–' : `${session.hold_time_s} s`}</td>
              <td>{session.announced.join(', ') || '–'}</td>
              <td>{session.lost}</td>
              <td>{session.failed}</td>
              <td>{session.routes_ignored}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    {:else}<p class="text-secondary">This node takes no part in it.</p>{/if}
  </section>
{/if}
