// The keys of each kind of object, as fields of a form. They are made from the declarations of the keys (keys.json).

import type { Json, Keys, Kind, Problem } from '../api/types'
import { escaped, unescaped } from '../format/escape'
import declared from './keys.json'

/** The values of another key that decide about a key or a choice. */
interface DecidedBy {
  key: string
  values: string[]
}

/** A word that a key may be, and what it means. */
interface Choice {
  name: string
  help: string
  when?: DecidedBy
}

/** A key as its declaration says it. */
interface KeyHelp {
  key: string
  label: string
  help: string
  about?: string
  type: 'text' | 'number' | 'flag' | 'choice' | 'duration' | 'size' | 'texts' | 'pairs' | 'numbers' | 'lists'
  needed?: boolean
  basic?: boolean
  group: string
  default?: string
  example?: string
  range?: string
  choices?: Choice[]
  refers?: string
  when?: DecidedBy
  effective?: DecidedBy
  escapes?: boolean
  page?: boolean
}

export interface Field {
  key: string
  label: string
  help: string
  /** Cost, danger, and what larger and smaller values do. */
  about: string
  /** What stands in the field while it is empty: the default, else an example. */
  empty: string
  type: 'text' | 'number' | 'flag' | 'choice' | 'choices' | 'object' | 'objects' | 'words' | 'pairs' | 'numbers' | 'lists'
  choices: Choice[]
  /** The kind of object that is named. */
  kind: Kind | null
  /** It has to be filled in. */
  needed: boolean
  /** Shown when other fields have these values. */
  when: DecidedBy[]
  /** Shown behind "more", under this heading. */
  more: boolean
  group: string
  /** Written with the escapes of a document. */
  escaped: boolean
  /** It is a page, which people keep in files. */
  page: boolean
}

/** What is wrong with what stands in a field. */
export interface Mistake {
  found: string
  expected: string
}

function typeOf(key: KeyHelp): Field['type'] {
  if (key.type === 'texts') return key.choices ? 'choices' : key.refers ? 'objects' : 'words'
  if (key.type === 'text') return key.refers ? 'object' : 'text'
  return key.type === 'duration' || key.type === 'size' ? 'text' : key.type
}

const field = (key: KeyHelp): Field => ({
  key: key.key,
  label: key.label,
  help: key.range ? `${key.help.replace(/\.$/, '')}: ${key.range}.` : key.help,
  about: key.about ?? '',
  empty: key.default ?? key.example ?? '',
  type: typeOf(key),
  choices: key.choices ?? [],
  kind: (key.refers as Kind | undefined) ?? null,
  needed: key.needed ?? false,
  when: [key.when, key.effective].filter((condition) => condition !== undefined),
  more: !key.basic,
  group: key.group,
  escaped: key.escapes ?? false,
  page: key.page ?? false,
})

/** The fields of each kind. Labels have a field of their own in every form. */
export const FIELDS = Object.fromEntries(
  Object.entries(declared as unknown as Record<Kind, KeyHelp[]>).map(([kind, keys]) => [kind, keys.filter((key) => key.key !== 'labels').map(field)]),
) as Record<Kind, Field[]>

/** Whether a field has one of the values of a condition; of a list, whether an item has: `header:x-account` is a `header`. */
const holds = (condition: DecidedBy, values: Record<string, string>) => {
  const value = values[condition.key] ?? ''
  const items = value.split(/[\s,]+/).flatMap((item) => [item, item.split(':')[0] ?? ''])
  return [value, ...items].some((item) => condition.values.includes(item))
}

/** The choices of a field beside the values of the others. */
export const choicesOf = (field: Field, values: Record<string, string>): Choice[] =>
  field.choices.filter((choice) => !choice.when || holds(choice.when, values))

/** Whether a field has a meaning beside the values of the others. An empty one stands for its default. */
export const applies = (field: Field, values: Record<string, string>): boolean => field.when.every((condition) => holds(condition, values))

/** The value of a key, or of one inside a table: `passive_check.failures`. */
export function valueAt(keys: Keys, key: string): Json | undefined {
  const [first, second] = key.split('.')
  const value = keys[first ?? '']
  if (second === undefined) return value
  return value !== null && typeof value === 'object' && !Array.isArray(value) ? value[second] : undefined
}

/** Puts a value under a key, or under one inside a table. A table without the key that it cannot be without goes as a whole. */
export function put(keys: Keys, key: string, value: Json): void {
  const [first, second] = key.split('.')
  if (second === undefined) {
    keys[key] = value
  } else if (value === null && second === 'failures') {
    keys[first ?? ''] = null
  } else if (keys[first ?? ''] !== null) {
    keys[first ?? ''] = { ...(keys[first ?? ''] as Keys | undefined), [second]: value }
  }
}

/** What a field shows of an object's keys. */
export function shown(field: Field, keys: Keys): string {
  const value = valueAt(keys, field.key)
  if (value === undefined || value === null) return ''
  if (field.type === 'flag') return value === true ? 'yes' : value === false ? 'no' : ''
  if (field.type === 'pairs') return labelText(value as Record<string, string>)
  if (field.type === 'numbers' || field.type === 'lists')
    return Object.entries(value)
      .map(([name, of]) => `${name}=${Array.isArray(of) ? of.join(',') : of}`)
      .join(' ')
  if (field.escaped) return escaped(String(value))
  return Array.isArray(value) ? value.join(' ') : String(value)
}

/** What is wrong with a field's text before the service is asked. */
export function wrong(field: Field, text: string): Mistake | null {
  if (!field.escaped || unescaped(text) !== null) return null
  return { found: `found ${text}`, expected: 'escapes are \\n, \\r, \\t, \\\\, \\x00 to \\x7f and \\u0000' }
}

/** The service's mistakes by the keys of one object; those of the object itself stand under the empty key. */
export function byKey(mistakes: Problem[], path: string): Record<string, Mistake> {
  const found: Record<string, Mistake> = {}
  for (const it of mistakes) {
    if (it.path !== path && !it.path.startsWith(`${path}.`)) continue
    const whole = it.path.slice(path.length + 1)
    // Those of a table's own keys have fields of their own.
    for (const key of [whole, whole.split('.')[0] ?? '']) found[key] ??= { found: it.found, expected: it.expected }
  }
  return found
}

/** What a name has to look like. */
export const NAME = /^[a-z](?:[a-z0-9-]*[a-z0-9])?$/
export const wrongName = (name: string): Mistake | null =>
  name === '' || (NAME.test(name) && name.length <= 63)
    ? null
    : { found: `found ${name}`, expected: 'a letter a-z first, then a-z, 0-9 and hyphens, no hyphen at the end, 63 at most' }

/** A whole number in a range, or what is wrong with the text. */
export function wholeNumber(text: string, least: number, most: number): number | Mistake {
  const trimmed = text.trim()
  const number = Number(trimmed)
  if (/^\d+$/.test(trimmed) && number >= least && number <= most) return number
  return { found: trimmed === '' ? 'found nothing' : `found ${trimmed}`, expected: `a whole number from ${least} to ${most}` }
}

/** What a field's text means as a value; null puts the key back to its default. `before` is the value that it had. */
export function meant(field: Field, text: string, before: Json | undefined): Json {
  const trimmed = text.trim()
  if (trimmed === '') return null
  if (field.type === 'pairs') return meantLabels(trimmed, (before ?? {}) as Record<string, string>)
  if (field.type === 'numbers' || field.type === 'lists') {
    // What is not named any more is taken away.
    const table: Keys = Object.fromEntries(Object.keys(before ?? {}).map((name) => [name, null]))
    for (const pair of trimmed.split(/\s+/)) {
      const [name, ...rest] = pair.split('=')
      const of = rest.join('=')
      table[name ?? ''] = field.type === 'lists' ? of.split(',') : /^\d+$/.test(of) ? Number(of) : of
    }
    return table
  }
  if (field.type === 'number') return /^\d+$/.test(trimmed) ? Number(trimmed) : trimmed
  if (field.type === 'flag') return trimmed === 'yes' || trimmed === 'true'
  if (field.type === 'words' || field.type === 'choices' || field.type === 'objects') return trimmed.split(/[\s,]+/)
  if (field.escaped) return unescaped(trimmed) ?? trimmed
  return trimmed
}

/** Labels as they are written in a field: `key=value key=value`. */
export const labelText = (labels: Record<string, string>) =>
  Object.entries(labels)
    .map(([key, value]) => `${key}=${value}`)
    .join(', ')

/** Labels from a field; what is not there any more is taken away. */
export function meantLabels(text: string, before: Record<string, string>): Keys {
  const labels: Keys = Object.fromEntries(Object.keys(before).map((key) => [key, null]))
  for (const pair of text.split(',').filter((it) => it.trim() !== '')) {
    const [key, ...value] = pair.split('=')
    labels[(key ?? '').trim()] = value.join('=').trim()
  }
  return labels
}

/** The words for kinds on pages and buttons. */
export const KINDS: Record<Kind, { one: string; many: string; home: string }> = {
  frontend: { one: 'frontend', many: 'Frontends', home: 'frontends' },
  pool: { one: 'pool', many: 'Pools', home: 'pools' },
  server: { one: 'server', many: 'Servers', home: 'servers' },
  lookup: { one: 'lookup', many: 'Lookups', home: 'lookups' },
  check: { one: 'check', many: 'Checks', home: 'checks' },
  host: { one: 'host', many: 'Hosts', home: 'hosts' },
  range: { one: 'range', many: 'Reserved addresses', home: 'ranges' },
  network: { one: 'network', many: 'Networks', home: 'networks' },
  address: { one: 'address', many: 'Service addresses', home: 'addresses' },
  announcement: { one: 'announcement', many: 'Announced addresses', home: 'announce' },
  authority: { one: 'authority', many: 'Authorities', home: 'authorities' },
  rule: { one: 'rule', many: 'Rules', home: 'rules' },
  limit: { one: 'limit', many: 'Limits', home: 'limits' },
  example: { one: 'example', many: 'Examples', home: 'examples' },
  certificate: { one: 'certificate', many: 'Certificates', home: 'certificates' },
  notification: { one: 'notification', many: 'Notifications', home: 'notifications' },
  reserved: { one: 'reserved address', many: 'Reserved addresses', home: 'ranges' },
}
