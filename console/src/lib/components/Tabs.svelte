<script lang="ts" generics="Key extends string">
  import type { Snippet } from 'svelte'

  // Tabs and their panel (WAI-ARIA's tabs): one of them is in the tab order, arrow keys, Home and End go to the others.
  let { label, parts, value = $bindable(), children }: { label: string; parts: { key: Key; title: string }[]; value: Key; children: Snippet } = $props()

  const id = $props.id()
  const at = $derived(parts.findIndex((part) => part.key === value))

  function onkeydown(event: KeyboardEvent & { currentTarget: HTMLElement }) {
    const last = parts.length - 1
    const to = { ArrowRight: at === last ? 0 : at + 1, ArrowLeft: at === 0 ? last : at - 1, Home: 0, End: last }[event.key]
    const part = to === undefined ? undefined : parts[to]
    if (!part) return
    event.preventDefault()
    value = part.key
    event.currentTarget.querySelector<HTMLElement>(`#tab-${id}-${part.key}`)?.focus()
  }
</script>

<!-- Its tabs are what has the focus. -->
<!-- svelte-ignore a11y_interactive_supports_focus -->
<div role="tablist" class="mb-3 flex flex-wrap gap-1 border-b border-base-300" aria-label={label} {onkeydown}>
  {#each parts as part (part.key)}
    <button
      id={`tab-${id}-${part.key}`}
      type="button"
      role="tab"
      aria-selected={part.key === value}
      aria-controls={`panel-${id}`}
      tabindex={part.key === value ? 0 : -1}
      class={['px-3 py-1', part.key === value ? 'border-b-2 border-primary font-semibold' : 'text-secondary']}
      onclick={() => (value = part.key)}>{part.title}</button
    >
  {/each}
</div>
<div id={`panel-${id}`} role="tabpanel" aria-labelledby={`tab-${id}-${value}`}>{@render children()}</div>
