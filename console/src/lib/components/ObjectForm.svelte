<script lang="ts">
  import { untrack } from 'svelte'
  import type { Edit, Keys, Kind, ObjectView } from '../api/types'
  import type { Outlook } from '../desk/desk.svelte'
  import { applies, byKey, FIELDS, KINDS, labelText, meant, put, valueAt, meantLabels, shown, wrong, wrongName, type Field, type Mistake } from '../desk/fields'
  import { unsaved } from '../desk/unsaved.svelte'
  import { clock } from '../format/format'
  import FieldNotes from './FieldNotes.svelte'
  import Fields from './Fields.svelte'
  import GoLive from './GoLive.svelte'
  import TryCheck from './TryCheck.svelte'

  // A form for one object: a new one, or one that is there. What is typed in it is kept until it is made or forgotten.
  let {
    kind,
    around = '',
    object = null,
    gone = false,
    basedOn,
    onmade,
  }: {
    kind: Kind
    /** The path of what is around a new object, with a dot behind it. */
    around?: string
    object?: ObjectView | null
    /** It was removed meanwhile: it can only be made anew. */
    gone?: boolean
    basedOn?: number | undefined
    onmade: (name: string) => void
  } = $props()

  interface Typed {
    name: string
    labels: string | null
    values: Record<string, string>
    /** What stood in the fields when they were typed in. */
    bases: Record<string, string>
  }

  const formId = $props.id()
  const fields = $derived(FIELDS[kind])
  const place = $derived(around || `${KINDS[kind].home}.`)
  const key = $derived(`form ${object ? object.path : `${place}*`}`)
  let name = $state('')
  let values = $state<Record<string, string>>({})
  let bases = $state<Record<string, string>>({})
  let labels = $state('')
  /** When what stands here was typed, if it was kept from before. */
  let keptAt = $state('')
  /** It was made just now: what is typed is no more than what will come. */
  let made = $state(false)
  let outlook = $state.raw<Outlook | null>(null)

  const begin = (field: Field, of: ObjectView | null) => shown(field, of?.keys ?? {}) || (of === null && field.needed ? (field.choices[0]?.name ?? '') : '')

  // The form begins anew when it is given another object. When the same one changes meanwhile, what was typed stays.
  const before = $derived(JSON.stringify(object))
  let last: ObjectView | null | undefined
  $effect.pre(() => {
    const known: ObjectView | null = JSON.parse(before)
    const same = last !== undefined && last?.path === known?.path
    const was = same ? (last ?? null) : null
    last = known
    untrack(() => {
      made = false
      if (same) {
        const isTyped = (field: Field) => values[field.key] !== bases[field.key] && values[field.key] !== begin(field, known)
        const kept = new Set(fields.filter(isTyped).map((field) => field.key))
        bases = Object.fromEntries(fields.map((field) => [field.key, kept.has(field.key) ? (bases[field.key] ?? '') : begin(field, known)]))
        values = Object.fromEntries(fields.map((field) => [field.key, kept.has(field.key) ? (values[field.key] ?? '') : begin(field, known)]))
        if (labels === labelText(was?.labels ?? {})) labels = labelText(known?.labels ?? {})
        return
      }
      const all = Object.fromEntries(fields.map((field) => [field.key, begin(field, known)]))
      const typed = unsaved.kept<Typed>(key)
      values = { ...all, ...typed?.values }
      bases = { ...all, ...typed?.bases }
      labels = typed?.labels ?? labelText(known?.labels ?? {})
      name = typed?.name ?? ''
      keptAt = typed ? (unsaved.works[key]?.at ?? '') : ''
    })
  })

  const typed = $derived.by<Typed | null>(() => {
    const own = fields.filter((field) => (values[field.key] ?? '') !== begin(field, object))
    const others = labels === labelText(object?.labels ?? {}) ? null : labels
    if (made || (own.length === 0 && others === null && name === '')) return null
    const of = (from: Record<string, string>) => Object.fromEntries(own.map((field) => [field.key, from[field.key] ?? '']))
    return { name, labels: others, values: of(values), bases: of(bases) }
  })
  $effect(() => unsaved.keep(key, object ? `${KINDS[kind].one} ${object.name}` : `a new ${KINDS[kind].one}`, typed))

  function forget() {
    values = Object.fromEntries(fields.map((field) => [field.key, begin(field, object)]))
    bases = { ...values }
    labels = labelText(object?.labels ?? {})
    name = ''
    keptAt = ''
  }

  /** What others set a field to that was typed in as well. */
  const clashes = $derived.by(() => {
    const found: Record<string, string> = {}
    for (const field of fields) {
      const now = begin(field, object)
      const mine = values[field.key] ?? ''
      if (object && mine !== now && now !== (bases[field.key] ?? ''))
        found[field.key] =
          `Another change set it to ${now === '' ? 'its default' : now} meanwhile, from ${bases[field.key] || 'its default'}; your value would replace that.`
    }
    return found
  })

  const changed = $derived.by(() => {
    const keys: Keys = {}
    for (const field of fields) {
      const typed = values[field.key] ?? ''
      // Of two fields of one key the one that applies speaks for it.
      if (!applies(field, values) && fields.some((it) => it !== field && it.key === field.key && applies(it, values))) continue
      const was = object ? shown(field, object.keys) : ''
      if (!applies(field, values)) {
        if (object && was !== '') put(keys, field.key, null)
      } else if (typed.trim() !== was) put(keys, field.key, meant(field, typed, object && valueAt(object.keys, field.key)))
    }
    if (labels.trim() !== labelText(object?.labels ?? {})) keys.labels = meantLabels(labels, object?.labels ?? {})
    return keys
  })
  /** All of its keys, as the form has them. */
  const whole = $derived(
    Object.fromEntries(Object.entries({ ...(object?.keys ?? {}), ...changed }).filter(([key, value]) => value !== null && key !== 'labels')),
  )
  const nameMistake = $derived(object ? null : wrongName(name.trim()))
  const ownMistakes = $derived.by(() => {
    const found: Record<string, Mistake> = {}
    for (const field of fields) {
      const mistake = applies(field, values) ? wrong(field, values[field.key] ?? '') : null
      if (mistake) found[field.key] = mistake
    }
    return found
  })
  const missing = $derived(
    object || typed === null
      ? []
      : [
          ...(name.trim() === '' ? ['Name'] : []),
          ...fields.filter((field) => field.needed && applies(field, values) && !values[field.key]?.trim()).map((field) => field.label),
        ],
  )
  const path = $derived(object ? object.path : `${place}${name.trim()}`)
  const mistakes = $derived({ ...byKey(outlook?.mistakes ?? [], path), ...ownMistakes })
  const wrongs = $derived(Object.keys(ownMistakes).length + (nameMistake ? 1 : 0))
  const edits = $derived.by<Edit[]>(() => {
    if (wrongs > 0) return []
    if (object && gone)
      return [{ do: 'add', object: object.path, keys: { ...whole, ...('labels' in changed ? { labels: changed.labels ?? null } : { labels: object.labels }) } }]
    if (object) return Object.keys(changed).length === 0 ? [] : [{ do: 'change', object: object.path, keys: changed }]
    if (typed === null || missing.length > 0) return []
    const given = Object.fromEntries(Object.entries(changed).filter(([, value]) => value !== null))
    return [{ do: 'add', object: path, keys: given }]
  })

  function done() {
    const its = object ? object.name : name.trim()
    made = true
    keptAt = ''
    unsaved.keep(key, '', null)
    onmade(its)
  }
</script>

<div class="grid gap-4 lg:grid-cols-2">
  <div class="min-w-0">
    {#if keptAt && typed}
      <p class="mb-2 rounded-box border border-warning px-2 py-1" data-testid="kept">
        <span class="text-warning">◆ What you typed at {clock(keptAt)} is still here</span> and not made yet. Go on with it, or
        <button type="button" class="btn btn-xs" onclick={forget}>Forget it</button>
      </p>
    {/if}
    {#if !object}
      <div class="mb-2 sm:w-1/2 sm:pr-2">
        <label class="block" for="field-own-name">Name<span aria-hidden="true" class="text-secondary"> *</span></label>
        <input
          id="field-own-name"
          form={formId}
          class="input input-sm w-full"
          autocomplete="off"
          bind:value={name}
          aria-invalid={nameMistake ? 'true' : undefined}
          aria-describedby="wrong-own-name"
        />
        <p class="text-secondary">a-z, 0-9 and hyphen, a letter first</p>
        <FieldNotes id="wrong-own-name" mistake={nameMistake ?? (name.trim() ? (mistakes[''] ?? null) : null)} />
      </div>
    {/if}
    <Fields {fields} bind:values {mistakes} {clashes} form={formId} />
    {#if kind !== 'lookup' && kind !== 'reserved' && kind !== 'network'}
      <div class="mt-2">
        <label class="block" for="field-labels">Labels</label>
        <input
          id="field-labels"
          form={formId}
          class="input input-sm w-full"
          autocomplete="off"
          bind:value={labels}
          placeholder="site=north, rack=r7"
          aria-invalid={mistakes.labels ? 'true' : undefined}
          aria-describedby="wrong-labels"
        />
        <FieldNotes id="wrong-labels" mistake={mistakes.labels ?? null} />
      </div>
    {/if}
  </div>
  <div class="min-w-0 rounded-box border border-base-300 bg-base-200 p-3">
    <h2 class="mb-2 font-semibold">What this does</h2>
    <GoLive id={formId} {edits} {basedOn} {missing} wrong={wrongs} verb={gone ? 'Create again' : 'Apply'} onseen={(seen) => (outlook = seen)} onmade={done} />
    {#if kind === 'check'}<TryCheck name={object ? object.name : name} keys={whole} usedBy={object?.used_by ?? []} />{/if}
  </div>
</div>
