<script lang="ts">
  import type { Kind } from '../api/types'

  // Picks objects by name: typing searches, arrow keys and Enter choose (WAI-ARIA's combobox). Several stand as names that can be
  // taken away again.
  let {
    id,
    kind,
    names,
    complete = true,
    several = false,
    value = $bindable(),
    placeholder = '',
    required = false,
    invalid = false,
    describedby,
    form,
  }: {
    id: string
    kind: Kind
    /** The names that there are. */
    names: string[] | undefined
    /** They are all of them. */
    complete?: boolean
    /** More than one can be picked. */
    several?: boolean
    /** The name, or names with spaces between. */
    value: string | undefined
    placeholder?: string
    required?: boolean
    invalid?: boolean
    describedby?: string
    form?: string
  } = $props()

  /** So many are listed; typing narrows them. */
  const MOST = 50

  let typed = $state('')
  let open = $state(false)
  let at = $state(0)

  const chosen = $derived((value ?? '').split(/[\s,]+/).filter((name) => name !== ''))
  const sought = $derived((several ? typed : (value ?? '')).trim())
  const isName = $derived(names?.includes(sought) ?? true)
  const found = $derived((names ?? []).filter((name) => (isName && !several ? true : name.includes(sought)) && !(several && chosen.includes(name))))
  const listed = $derived(found.slice(0, MOST))
  /** A name that is written whole needs no list. */
  const isShown = $derived(open && (several || sought === '' || !names?.includes(sought)))
  const current = $derived(listed[at])
  const unknown = $derived(names === undefined || !complete ? [] : chosen.filter((name) => !names.includes(name)))

  function pick(name: string) {
    value = several ? [...chosen, name].join(' ') : name
    typed = ''
    open = several
    at = 0
  }

  const drop = (name: string) => (value = chosen.filter((other) => other !== name).join(' '))

  function onkeydown(event: KeyboardEvent) {
    if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
      event.preventDefault()
      at = open ? (at + (event.key === 'ArrowDown' ? 1 : -1) + listed.length) % Math.max(listed.length, 1) : 0
      open = true
    } else if (event.key === 'Enter' && open && (current !== undefined || (several && typed.trim() !== ''))) {
      event.preventDefault()
      pick(current ?? typed.trim())
    } else if (event.key === 'Escape' && open) {
      event.stopPropagation()
      open = false
    } else if (event.key === 'Backspace' && several && typed === '' && chosen.length > 0) {
      drop(chosen[chosen.length - 1] ?? '')
    }
  }

  /** What was typed and not picked stays, and is said to be no name where it is none. */
  function onblur() {
    if (several && typed.trim() !== '') pick(typed.trim())
    open = false
  }

  function oninput(event: Event & { currentTarget: HTMLInputElement }) {
    open = true
    at = 0
    if (several) typed = event.currentTarget.value
    else value = event.currentTarget.value
  }
</script>

<div class="relative">
  {#if several && chosen.length > 0}
    <ul class="mb-1 flex flex-wrap gap-1" aria-label="Chosen">
      {#each chosen as name (name)}
        <li><button type="button" class="btn btn-xs" aria-label={`Take away ${name}`} onclick={() => drop(name)}>{name} ✕</button></li>
      {/each}
    </ul>
  {/if}
  <input
    {id}
    {form}
    class="input input-sm w-full"
    role="combobox"
    aria-expanded={isShown}
    aria-controls={`list-${id}`}
    aria-autocomplete="list"
    aria-activedescendant={isShown && current !== undefined ? `option-${id}-${at}` : undefined}
    autocomplete="off"
    {placeholder}
    value={several ? typed : (value ?? '')}
    required={required && chosen.length === 0}
    aria-invalid={invalid || unknown.length > 0 ? 'true' : undefined}
    aria-describedby={describedby}
    {oninput}
    {onkeydown}
    onclick={() => (open = true)}
    {onblur}
  />
  <ul
    id={`list-${id}`}
    role="listbox"
    aria-label={`Names of a ${kind}`}
    class={['menu absolute z-20 max-h-60 w-full flex-nowrap overflow-y-auto rounded-box border border-base-300 bg-base-100 p-1 shadow', !isShown && 'hidden']}
  >
    {#each listed as name, index (name)}
      <li
        id={`option-${id}-${index}`}
        role="option"
        aria-selected={index === at}
        class={['cursor-pointer rounded px-2 py-0.5', index === at && 'bg-base-300']}
        onmousedown={(event) => {
          event.preventDefault()
          pick(name)
        }}
      >
        {name}
      </li>
    {:else}
      <li role="presentation" class="px-2 py-0.5 text-secondary">{names === undefined ? 'loading' : `no ${kind} has this in its name`}</li>
    {/each}
    {#if found.length > MOST}<li role="presentation" class="px-2 py-0.5 text-secondary">{found.length - MOST} more: type a part of the name</li>{/if}
  </ul>
  {#if unknown.length > 0}<p class="text-warning">▲ There is no {kind} {unknown.join(', ')}.</p>{/if}
</div>
