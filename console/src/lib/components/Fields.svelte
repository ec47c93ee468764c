<script lang="ts">
  import { objects } from '../api/call'
  import type { Kind } from '../api/types'
  import { desk } from '../desk/desk.svelte'
  import { applies, type Field, type Mistake } from '../desk/fields'
  import FieldNotes from './FieldNotes.svelte'

  let {
    fields,
    values = $bindable(),
    mistakes = {},
    clashes = {},
  }: {
    fields: Field[]
    values: Record<string, string>
    /** What is wrong, by key. */
    mistakes?: Record<string, Mistake>
    /** What others changed meanwhile, by key. */
    clashes?: Record<string, string>
  } = $props()

  let more = $state(false)
  let names = $state<Partial<Record<Kind, string[]>>>({})

  const here = (field: Field) => applies(field, values)
  const first = $derived(fields.filter((field) => !field.more && here(field)))
  const rest = $derived(fields.filter((field) => field.more && here(field)))

  // A mistake is not hidden.
  $effect(() => {
    if (rest.some((field) => mistakes[field.key] || clashes[field.key])) more = true
  })

  $effect(() => {
    const draft = desk.draft
    void desk.made
    for (const field of fields) {
      const kind = field.kind
      if (kind) objects({ kind, draft, limit: 1000 }).then((found) => (names = { ...names, [kind]: found.objects.map((it) => it.name) }), () => {})
    }
  })
</script>

{#snippet one(field: Field)}
  <div>
    <label class="block" for={`field-${field.key}`}>{field.label}{#if field.needed}<span aria-hidden="true" class="text-secondary"> *</span>{/if}</label>
    {#if field.type === 'choice' || field.type === 'flag'}
      <select id={`field-${field.key}`} class="select select-sm w-full" bind:value={values[field.key]} required={field.needed} aria-invalid={mistakes[field.key] ? 'true' : undefined} aria-describedby={`wrong-${field.key}`}>
        {#if !field.needed}<option value="">default</option>{/if}
        {#each field.of ?? [] as choice (choice)}<option>{choice}</option>{/each}
      </select>
    {:else if field.type === 'object'}
      <input
        id={`field-${field.key}`}
        class="input input-sm w-full"
        list={`names-${field.key}`}
        autocomplete="off"
        placeholder={field.empty}
        bind:value={values[field.key]}
        required={field.needed}
        aria-invalid={mistakes[field.key] ? 'true' : undefined}
        aria-describedby={`help-${field.key} wrong-${field.key}`}
      />
      <datalist id={`names-${field.key}`}>
        {#each names[field.kind ?? 'pool'] ?? [] as name (name)}<option value={name}></option>{/each}
      </datalist>
    {:else}
      <input
        id={`field-${field.key}`}
        class="input input-sm w-full"
        inputmode={field.type === 'number' ? 'numeric' : 'text'}
        autocomplete="off"
        placeholder={field.empty}
        bind:value={values[field.key]}
        required={field.needed}
        aria-invalid={mistakes[field.key] ? 'true' : undefined}
        aria-describedby={`help-${field.key} wrong-${field.key}`}
      />
    {/if}
    <p id={`help-${field.key}`} class="text-secondary">{field.help}</p>
    <FieldNotes id={`wrong-${field.key}`} mistake={mistakes[field.key] ?? null} clash={clashes[field.key] ?? ''} />
  </div>
{/snippet}

<div class="grid gap-x-4 gap-y-2 sm:grid-cols-2">
  {#each first as field (`${field.key} ${field.label} ${field.help}`)}{@render one(field)}{/each}
</div>
{#if rest.length > 0}
  <button type="button" class="btn btn-ghost btn-xs mt-2" aria-expanded={more} onclick={() => (more = !more)}>
    {more ? '▾' : '▸'} More, limits and times
  </button>
  {#if more}
    <div class="mt-1 grid gap-x-4 gap-y-2 sm:grid-cols-2">
      {#each rest as field (`${field.key} ${field.label} ${field.help}`)}{@render one(field)}{/each}
    </div>
  {/if}
{/if}
