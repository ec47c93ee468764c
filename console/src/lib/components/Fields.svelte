<script lang="ts">
  import { objects } from '../api/call'
  import type { Kind } from '../api/types'
  import { desk } from '../desk/desk.svelte'
  import { applies, choicesOf, type Field, type Mistake } from '../desk/fields'
  import { escaped } from '../format/escape'
  import FieldNotes from './FieldNotes.svelte'
  import ObjectPicker from './ObjectPicker.svelte'
  import Prose from './Prose.svelte'

  let {
    fields,
    values = $bindable(),
    mistakes = {},
    clashes = {},
    form,
  }: {
    fields: Field[]
    values: Record<string, string>
    /** What is wrong, by key. */
    mistakes?: Record<string, Mistake>
    /** What others changed meanwhile, by key. */
    clashes?: Record<string, string>
    /** The form that Enter in a field submits. */
    form?: string
  } = $props()

  let more = $state(false)
  /** The fields whose long help is shown. */
  const expanded = $state<Record<string, boolean>>({})
  let names = $state<Partial<Record<Kind, { all: string[]; complete: boolean }>>>({})

  const here = (field: Field) => applies(field, values)
  const first = $derived(fields.filter((field) => !field.more && here(field)))
  const rest = $derived(fields.filter((field) => field.more && here(field)))

  /** Those behind "more", under their headings. */
  const groups = $derived.by(() => {
    const found: { name: string; fields: Field[] }[] = []
    for (const field of rest) {
      const group = found.find((known) => known.name === field.group)
      if (group) group.fields.push(field)
      else found.push({ name: field.group, fields: [field] })
    }
    return found
  })

  const has = (field: Field, choice: string) => (values[field.key] ?? '').split(/[\s,]+/).includes(choice)
  function choose(field: Field, choice: string, chosen: boolean) {
    const all = field.choices.map((known) => known.name).filter((name) => (name === choice ? chosen : has(field, name)))
    values[field.key] = all.join(' ')
  }

  /** Takes the text of a file that was chosen into a field. */
  async function take(field: Field, input: HTMLInputElement) {
    const file = input.files?.[0]
    if (!file) return
    values[field.key] = escaped(await file.text())
    input.value = ''
  }

  // A mistake is not hidden.
  $effect(() => {
    if (rest.some((field) => mistakes[field.key] || clashes[field.key])) more = true
  })

  $effect(() => {
    const draft = desk.draft
    void desk.made
    for (const field of fields) {
      const kind = field.kind
      if (kind)
        objects({ kind, draft, limit: 1000 }).then(
          (found) => (names = { ...names, [kind]: { all: found.objects.map((object) => object.name), complete: found.total <= found.objects.length } }),
          () => {},
        )
    }
  })
</script>

{#snippet one(field: Field)}
  <div>
    <div class="flex items-baseline gap-2">
      <label class="block" for={`field-${field.key}`}
        >{field.label}{#if field.needed}<span aria-hidden="true" class="text-secondary"> *</span>{/if}</label
      >
      {#if field.about}
        <button
          type="button"
          class="btn btn-ghost btn-xs px-1 font-normal"
          aria-label={`More about ${field.label}`}
          aria-expanded={expanded[field.key] ?? false}
          aria-controls={`about-${field.key}`}
          onclick={() => (expanded[field.key] = !expanded[field.key])}>{expanded[field.key] ? 'less' : 'more'}</button
        >
      {/if}
    </div>
    {#if field.type === 'choice' || field.type === 'flag'}
      <select
        id={`field-${field.key}`}
        class="select select-sm w-full"
        bind:value={values[field.key]}
        required={field.needed}
        aria-invalid={mistakes[field.key] ? 'true' : undefined}
        aria-describedby={`help-${field.key} wrong-${field.key}`}
      >
        {#if !field.needed}<option value="">{field.empty ? `default: ${field.type === 'flag' ? 'no' : field.empty}` : 'none'}</option>{/if}
        {#if field.type === 'flag'}
          <option>yes</option><option>no</option>
        {:else}
          {#each choicesOf(field, values) as choice (choice.name)}<option>{choice.name}</option>{/each}
        {/if}
      </select>
    {:else if field.type === 'choices'}
      <div id={`field-${field.key}`} role="group" aria-label={field.label} class="flex flex-wrap gap-x-4 gap-y-1">
        {#each field.choices as choice (choice.name)}
          <label class="flex min-h-6 items-center gap-2" title={choice.help}>
            <input
              type="checkbox"
              class="checkbox checkbox-xs"
              checked={has(field, choice.name)}
              onchange={(event) => choose(field, choice.name, event.currentTarget.checked)}
            />
            {choice.name}
          </label>
        {/each}
      </div>
    {:else if (field.type === 'object' || field.type === 'objects') && field.kind}
      <ObjectPicker
        id={`field-${field.key}`}
        kind={field.kind}
        {form}
        names={names[field.kind]?.all}
        complete={names[field.kind]?.complete ?? false}
        several={field.type === 'objects'}
        placeholder={field.empty}
        bind:value={values[field.key]}
        required={field.needed}
        invalid={mistakes[field.key] !== undefined}
        describedby={`help-${field.key} wrong-${field.key}`}
      />
    {:else}
      <input
        id={`field-${field.key}`}
        {form}
        class="input input-sm w-full"
        inputmode={field.type === 'number' ? 'numeric' : 'text'}
        autocomplete="off"
        placeholder={field.empty}
        bind:value={values[field.key]}
        required={field.needed}
        aria-invalid={mistakes[field.key] ? 'true' : undefined}
        aria-describedby={`help-${field.key} wrong-${field.key}`}
      />
      {#if field.page}
        <label class="mt-1 flex items-center gap-2 text-secondary">
          <span class="whitespace-nowrap">From a file:</span>
          <input type="file" class="file-input file-input-xs" onchange={(event) => void take(field, event.currentTarget)} />
        </label>
      {/if}
    {/if}
    <p id={`help-${field.key}`} class="text-secondary">
      <Prose text={field.help} />
      {#each choicesOf(field, values).filter((choice) => field.type === 'choice' && choice.name === values[field.key]) as choice (choice.name)}
        <br />{choice.name}: <Prose text={choice.help} />
      {/each}
    </p>
    {#if expanded[field.key]}
      <div id={`about-${field.key}`} class="border-l-2 border-base-300 pl-2">
        {#each field.about.split('\n') as paragraph (paragraph)}<p><Prose text={paragraph} /></p>{/each}
      </div>
    {/if}
    <FieldNotes id={`wrong-${field.key}`} mistake={mistakes[field.key] ?? null} clash={clashes[field.key] ?? ''} />
  </div>
{/snippet}

<div class="grid gap-x-4 gap-y-2 sm:grid-cols-2">
  {#each first as field (`${field.key} ${field.help}`)}{@render one(field)}{/each}
</div>
{#if rest.length > 0}
  <button type="button" class="btn btn-ghost btn-xs mt-2" aria-expanded={more} onclick={() => (more = !more)}>
    {more ? '▾' : '▸'} All other keys
  </button>
  {#if more}
    {#each groups as group (group.name)}
      <h3 class="mt-3 border-b border-base-300 font-semibold">{group.name}</h3>
      <div class="mt-1 grid gap-x-4 gap-y-2 sm:grid-cols-2">
        {#each group.fields as field (`${field.key} ${field.help}`)}{@render one(field)}{/each}
      </div>
    {/each}
  {/if}
{/if}
