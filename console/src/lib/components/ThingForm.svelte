<script lang="ts">
  import { untrack } from 'svelte'
  import type { Edit, Keys, Kind, ThingView } from '../api/types'
  import { applies, FIELDS, KINDS, labelText, meant, meantLabels, shown, type Field } from '../desk/fields'
  import Fields from './Fields.svelte'
  import GoLive from './GoLive.svelte'
  import TryCheck from './TryCheck.svelte'

  // A form for one thing: a new one, or one that is there.
  let {
    kind,
    around = '',
    thing = null,
    basedOn,
    onmade,
  }: {
    kind: Kind
    /** The path of what is around a new thing, with a dot behind it. */
    around?: string
    thing?: ThingView | null
    basedOn?: number | undefined
    onmade: (name: string) => void
  } = $props()

  const fields = $derived(FIELDS[kind])
  let name = $state('')
  let values = $state<Record<string, string>>({})
  let labels = $state('')

  // The form begins anew when it is given another thing. When the same one changes meanwhile, what was typed stays.
  const before = $derived(JSON.stringify(thing))
  let last: ThingView | null | undefined
  $effect.pre(() => {
    const known: ThingView | null = JSON.parse(before)
    const same = last !== undefined && last?.path === known?.path
    const was = same ? (last ?? null) : null
    last = known
    untrack(() => {
      const begin = (field: Field, of: ThingView | null) =>
        shown(field, of?.keys ?? {}) || (of === null && field.needed && field.of ? (field.of[0] ?? '') : '')
      const typed = (field: Field) => (same && values[field.key] !== begin(field, was) ? values[field.key] : undefined)
      values = Object.fromEntries(fields.map((field) => [field.key, typed(field) ?? begin(field, known)]))
      if (!same || labels === labelText(was?.labels ?? {})) labels = labelText(known?.labels ?? {})
    })
  })

  const place = $derived(around || `${KINDS[kind].home}.`)
  const changed = $derived.by(() => {
    const keys: Keys = {}
    for (const field of fields) {
      const typed = values[field.key] ?? ''
      // Of two fields of one key the one that applies speaks for it.
      if (!applies(field, values) && fields.some((it) => it !== field && it.key === field.key && applies(it, values))) continue
      const was = thing ? shown(field, thing.keys) : ''
      if (!applies(field, values)) {
        if (thing && was !== '') keys[field.key] = null
      } else if (typed.trim() !== was) keys[field.key] = meant(field, typed, thing?.keys[field.key])
    }
    if (labels.trim() !== labelText(thing?.labels ?? {})) keys.labels = meantLabels(labels, thing?.labels ?? {})
    return keys
  })
  /** All of its keys, as the form has them. */
  const whole = $derived(Object.fromEntries(Object.entries({ ...(thing?.keys ?? {}), ...changed }).filter(([key, value]) => value !== null && key !== 'labels')))
  const edits = $derived.by<Edit[]>(() => {
    if (thing) return Object.keys(changed).length === 0 ? [] : [{ do: 'change', thing: thing.path, keys: changed }]
    const isWhole = fields.every((field) => !field.needed || !applies(field, values) || values[field.key]?.trim())
    if (name.trim() === '' || !isWhole) return []
    const given = Object.fromEntries(Object.entries(changed).filter(([, value]) => value !== null))
    return [{ do: 'add', thing: `${place}${name.trim()}`, keys: given }]
  })
</script>

<div class="grid gap-4 lg:grid-cols-2">
  <div>
    {#if !thing}
      <div class="mb-2 sm:w-1/2 sm:pr-2">
        <label class="block" for="field-own-name">Name<span aria-hidden="true" class="text-secondary"> *</span></label>
        <input id="field-own-name" class="input input-sm w-full" autocomplete="off" bind:value={name} maxlength="63" />
        <p class="text-secondary">a-z, 0-9 and hyphen, a letter first</p>
      </div>
    {/if}
    <Fields {fields} bind:values />
    {#if kind !== 'lookup' && kind !== 'taken' && kind !== 'network'}
      <div class="mt-2">
        <label class="block" for="field-labels">Labels</label>
        <input id="field-labels" class="input input-sm w-full" autocomplete="off" bind:value={labels} placeholder="site=north, rack=r7" />
      </div>
    {/if}
  </div>
  <div class="rounded-box border border-base-300 bg-base-200 p-3">
    <h2 class="mb-2 font-semibold">What this does</h2>
    <GoLive {edits} {basedOn} onmade={() => onmade(thing ? thing.name : name.trim())} />
    {#if kind === 'check'}<TryCheck name={thing ? thing.name : name} keys={whole} usedBy={thing?.used_by ?? []} />{/if}
  </div>
</div>
