<script lang="ts">
  import Dialog from './Dialog.svelte'

  // What each sign means. Signs stand beside words wherever they are used; see format/sign.ts.
  let { onclose }: { onclose: () => void } = $props()

  const SIGNS = [
    {
      of: 'Health of a server: what probes and traffic say',
      signs: [
        ['●', 'text-success', 'up', 'it passes its checks'],
        ['◐', 'text-warning', 'suspect', 'it fails, not yet often enough to be down; it still gets work'],
        ['✕', 'text-error', 'down', 'it fails its checks and gets no work'],
        ['◑', 'text-warning', 'recovering', 'it passes again, not yet often enough to be up'],
        ['○', 'text-secondary', 'unproven, not checked', 'no probe has ended yet, or the pool has no check'],
      ],
    },
    {
      of: 'Duty of a server: what operators say',
      signs: [
        ['▼', 'text-warning', 'draining', 'no new clients; open work finishes'],
        ['▽', 'text-warning', 'drained', 'nothing is open any more'],
        ['■', 'text-warning', 'withdrawn', 'it gets no work at all'],
      ],
    },
    {
      of: 'Probes on a line of time',
      signs: [
        ['✓ ✗', 'text-secondary', 'passed, failed', 'a probe, or a step of one'],
        ['▲ ▼', 'text-secondary', 'up, down', 'the server changed with this probe'],
        ['▽ △', 'text-secondary', 'suspect, recovering', 'it began to fail, or to pass again'],
      ],
    },
    {
      of: 'Anywhere',
      signs: [
        ['●', 'text-success', 'well', 'it works, it listens, it is done'],
        ['✕', 'text-error', 'wrong', 'something fails, or a value is refused'],
        ['▲', 'text-warning', 'warning', 'allowed, and probably a mistake'],
        ['◇', 'text-secondary', 'notice', 'worth knowing; it needs no acceptance'],
        ['◆', 'text-warning', 'not applied', 'it stands in a draft, or was typed and not made yet'],
        ['+ ~ −', 'text-secondary', 'added, changed, removed', 'in lists of changes'],
        ['* (a star)', 'text-secondary', 'needed', 'a field that has to be filled in'],
      ],
    },
  ] as const
</script>

<Dialog title="What the signs mean" {onclose}>
  {#each SIGNS as group (group.of)}
    <h3 class="mt-3 mb-1 font-semibold">{group.of}</h3>
    <dl class="grid grid-cols-[5rem_9rem_minmax(0,1fr)] gap-x-2 gap-y-1">
      {#each group.signs as [sign, tone, word, meaning] (word)}
        <dt class={tone}>{sign}</dt>
        <dd class="font-semibold">{word}</dd>
        <dd>{meaning}</dd>
      {/each}
    </dl>
  {/each}
</Dialog>
