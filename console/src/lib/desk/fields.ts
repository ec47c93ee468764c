// The keys of each kind of thing, as fields of a form. Words and ranges are those of the reference.

import type { Json, Keys, Kind } from '../api/types'

export interface Field {
  key: string
  label: string
  help: string
  /** What stands in the field while it is empty: the default. */
  empty: string
  type: 'text' | 'number' | 'choice' | 'thing' | 'words'
  /** The choices, or the kind of thing to choose. */
  of?: string[]
  kind?: Kind
  /** It has to be filled in. */
  needed?: boolean
  /** Shown when another field has this value. */
  when?: { key: string; is: string }
  /** Shown behind "more". */
  more?: boolean
}

const text = (key: string, label: string, empty: string, help: string, more: Partial<Field> = {}): Field => ({
  key,
  label,
  empty,
  help,
  type: 'text',
  ...more,
})

const note = text('note', 'Note', '', 'what it is for')

const times = (more: boolean, inherits: boolean): Field[] => {
  const or = (own: string) => (inherits ? 'as the pool' : own)
  return [
    text('connect_timeout', 'Connecting', or('1s'), 'how long connecting may take, 10ms to 60s', { more }),
    text('first_byte_timeout', 'First byte', or('30s'), 'until the answer begins, 10ms to 1h; then 504', { more }),
    text('whole_answer_timeout', 'Whole answer', or('1h'), 'from first byte to last, 100ms to 24h', { more }),
    text('idle_timeout', 'Rest', or('60s'), 'the longest rest in a body, 100ms to 1h', { more }),
  ]
}

export const FIELDS: Record<Kind, Field[]> = {
  frontend: [
    { ...text('protocol', 'Protocol', '', 'what clients speak'), type: 'choice', of: ['http'], needed: true },
    text('listen', 'Listens on', '192.0.2.10:80', 'address:port, or range/name:port for a reserved address', { needed: true }),
    { ...text('pool', 'Pool', '', 'where its clients are sent'), type: 'thing', kind: 'pool', needed: true },
    note,
    { ...text('connection_limit', 'Clients at once', '10000', 'one more is answered 503'), type: 'number', more: true },
    text('idle_timeout', 'Client’s rest', '60s', 'between requests or in a body, 100ms to 1h', { more: true }),
    text('head_timeout', 'Head within', '10s', 'from a head’s first byte to its end, 100ms to 5m', { more: true }),
    text('head_limit', 'Largest head', '16KiB', '1KiB to 64KiB; a larger one is answered 431', { more: true }),
    { ...text('field_limit', 'Fields in a head', '100', '1 to 100; more are answered 431'), type: 'number', more: true },
  ],
  pool: [
    { ...text('algorithm', 'Deals out by', '', 'how servers are picked'), type: 'choice', of: ['round-robin'] },
    { ...text('check', 'Check', 'none', 'judges its servers; without one each is taken to work'), type: 'thing', kind: 'check' },
    note,
    ...times(true, false),
    { ...text('attempts', 'Attempts', '3', 'servers that one request may be offered to, 1 to 16'), type: 'number', more: true },
  ],
  server: [
    text('address', 'Address', '192.0.2.21:8080', 'address:port or host:port', { needed: true }),
    { ...text('weight', 'Weight', '1', 'its part of the work, 0 to 1000'), type: 'number' },
    { ...text('tier', 'Tier', '0', 'the lowest tier with a server that can work does, 0 to 7'), type: 'number' },
    note,
    ...times(true, true),
  ],
  lookup: [
    text('name', 'DNS name', 'booking.skerry.example', 'its answers are servers of the pool', { needed: true }),
    { ...text('records', 'Records', '', 'address: A and AAAA; service: SRV'), type: 'choice', of: ['address', 'service'], needed: true },
    { ...text('port', 'Port', '', 'of each server'), type: 'number', needed: true, when: { key: 'records', is: 'address' } },
    { ...text('weight', 'Weight', '1', 'of each server'), type: 'number', when: { key: 'records', is: 'address' } },
    text('resolver', 'Name server', 'the machine’s own', 'address:port'),
    { ...text('when_empty', 'When empty', '', 'what becomes of servers when no records are left'), type: 'choice', of: ['keep', 'remove'] },
    note,
  ],
  check: [
    { ...text('kind', 'Asks', '', 'tcp: a connection is made; http: a GET is sent'), type: 'choice', of: ['tcp', 'http'], needed: true },
    text('path', 'Path', '/', 'what is asked for', { when: { key: 'kind', is: 'http' } }),
    { ...text('accept', 'Passes with', '200-299', 'status codes and ranges, spaces between', { when: { key: 'kind', is: 'http' } }), type: 'words' },
    text('interval', 'Every', '2s', 'from probe to probe, 100ms to 1h'),
    text('timeout', 'Timeout', '1s', 'how long a probe may take, 10ms to 60s'),
    { ...text('down_after', 'Down after', '3', 'failures in a row'), type: 'number' },
    { ...text('up_after', 'Up after', '2', 'passes in a row'), type: 'number' },
    note,
  ],
  host: [text('address', 'Address', '192.0.2.21', 'its IP address', { needed: true }), note],
  range: [
    text('addresses', 'Addresses', '192.0.2.16/28', 'a prefix, or first-last', { needed: true }),
    note,
  ],
  taken: [text('address', 'Address', '', 'the address')],
}

/** What a field shows of a thing's keys. */
export function shown(field: Field, keys: Keys): string {
  const value = keys[field.key]
  if (value === undefined || value === null) return ''
  return Array.isArray(value) ? value.join(' ') : String(value)
}

/** What a field's text means as a value; null puts the key back to its default. */
export function meant(field: Field, text: string): Json {
  const trimmed = text.trim()
  if (trimmed === '') return null
  if (field.type === 'number') return /^\d+$/.test(trimmed) ? Number(trimmed) : trimmed
  if (field.type === 'words') return trimmed.split(/[\s,]+/)
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
  taken: { one: 'taken address', many: 'Taken addresses', home: 'ranges' },
}
