<script lang="ts">
  import type { Snippet } from 'svelte'

  // What went wrong, or what to look at: a sign, words and a colour. An error is announced at once.
  let { kind = 'error', class: more = '', children }: { kind?: 'error' | 'warning'; class?: string; children: Snippet } = $props()
</script>

<p class={[kind === 'error' ? 'text-error' : 'text-warning', more]} role={kind === 'error' ? 'alert' : undefined}>
  <span aria-hidden="true">{kind === 'error' ? '✕' : '▲'}</span>
  {@render children()}
</p>
