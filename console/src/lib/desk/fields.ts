// The keys of each kind of object, as fields of a form. Words and ranges are those of the reference.

import type { Json, Keys, Kind, Problem } from '../api/types'
import { escaped, unescaped } from '../format/escape'

export interface Field {
  key: string
  label: string
  help: string
  /** What stands in the field while it is empty: the default. */
  empty: string
  type: 'text' | 'number' | 'flag' | 'choice' | 'object' | 'words' | 'numbers' | 'lists'
  /** The choices, or the kind of object to choose. */
  of?: string[]
  kind?: Kind
  /** It has to be filled in. */
  needed?: boolean
  /** Shown when another field has this value. */
  when?: { key: string; is: string | string[] }
  /** Shown behind "more". */
  more?: boolean
  /** Written with the escapes of a document. */
  escaped?: boolean
}

/** What is wrong with what stands in a field. */
export interface Mistake {
  found: string
  expected: string
}

const text = (key: string, label: string, empty: string, help: string, more: Partial<Field> = {}): Field => ({
  key,
  label,
  empty,
  help,
  type: 'text',
  ...more,
})

const ofKind = (...kinds: string[]) => ({ key: 'kind', is: kinds })
const ofHttp = ofKind('http')
const note = text('note', 'Note', '', 'what it is for')

const times = (more: boolean, inherits: boolean): Field[] => {
  const or = (own: string) => (inherits ? 'as the pool' : own)
  return [
    text('connect_timeout', 'Connecting', or('1s'), 'how long connecting may take, 10ms to 60s', { more }),
    text('first_byte_timeout', 'First byte', or('30s'), 'until the answer begins, 10ms to 1h; then 504', { more }),
    text('response_timeout', 'Whole answer', or('1h'), 'from first byte to last, 100ms to 24h', { more }),
    text('idle_timeout', 'Rest', or('60s'), 'the longest rest in a body, 100ms to 1h', { more }),
  ]
}

const limits = (empty: string): Field[] => [
  { ...text('in_flight_limit', 'Work in flight', empty, 'at a server at once; a full one is passed over'), type: 'number', more: true },
  { ...text('connection_limit', 'Connections', empty, 'to a server at once'), type: 'number', more: true },
  { ...text('rate_limit', 'A second', empty, 'pieces of work that a server gets'), type: 'number', more: true },
]

const http = { key: 'protocol', is: 'http' }
const tcp = { key: 'protocol', is: 'tcp' }
const udp = { key: 'protocol', is: 'udp' }
const streams = { key: 'protocol', is: ['http', 'tcp'] }
const hash = { key: 'algorithm', is: 'hash' }

export const FIELDS: Record<Kind, Field[]> = {
  frontend: [
    { ...text('protocol', 'Protocol', '', 'what clients speak'), type: 'choice', of: ['http', 'tcp', 'udp'], needed: true },
    text('listen', 'Listens on', '192.0.2.10:80', 'address:port, or range/name:port for a reserved address', { needed: true }),
    { ...text('pool', 'Pool', '', 'where its clients are sent, or the first of several'), type: 'object', kind: 'pool', needed: true },
    { ...text('balance_per', 'Balance per', '', 'each request or each connection; kept connections fool whoever counts', { when: http }), type: 'choice', of: ['request', 'connection'] },
    { ...text('balance_per', 'Balance per', '', 'flow: a client’s address and port; datagram: each one, without answers', { when: udp }), type: 'choice', of: ['flow', 'datagram'] },
    note,
    { ...text('next_pools', 'More pools', 'none', 'names, in order'), type: 'words', more: true },
    { ...text('choose_pool', 'Chosen', '', 'how one of several pools is chosen'), type: 'choice', of: ['in-order', 'by-weight', 'by-latency', 'by-network'], more: true },
    { ...text('pool_weights', 'Their weights', 'booking=3 standby=1', '1 each where nothing is said', { when: { key: 'choose_pool', is: 'by-weight' } }), type: 'numbers', more: true },
    { ...text('pool_networks', 'Their networks', 'booking=islands,coast', 'lists of networks whose clients a pool gets', { when: { key: 'choose_pool', is: 'by-network' } }), type: 'lists', more: true },
    { ...text('last_resort', 'Last resort', 'none', 'the pool that takes what nobody else will'), type: 'object', kind: 'pool', more: true },
    { ...text('connection_limit', 'Clients at once', '10000', 'one more is let go, with 503 where it speaks HTTP'), type: 'number', more: true },
    { ...text('failing_share', 'Failing from', '10', 'percent of a minute’s requests that fail on it is told; 0 is never'), type: 'number', more: true },
    text('idle_timeout', 'Client’s rest', '60s, tcp 10m, udp 30s', 'between requests, in a body, or without a byte, 100ms to 24h', { more: true }),
    text('header_timeout', 'Head within', '10s', 'from a head’s first byte to its end, 100ms to 5m', { more: true, when: http }),
    text('header_size_limit', 'Largest head', '16KiB', '1KiB to 64KiB; a larger one is answered 431', { more: true, when: http }),
    { ...text('header_count_limit', 'Fields in a head', '100', '1 to 100; more are answered 431', { when: http }), type: 'number', more: true },
    { ...text('max_concurrent_streams', 'Requests at once', '100', 'of one client over HTTP/2, 1 to 1000', { when: http }), type: 'number', more: true },
    text('min_rate', 'Lowest rate', '32B', 'a second, at which a client sends a body and takes an answer; 0B is none', { more: true, when: http }),
    text('min_rate_grace', 'Slower for', '30s', 'a client may be, 1s to 1h', { more: true, when: http }),
    { ...text('dropped_fields', 'Dropped fields', 'X-Real-IP and its like', 'that servers might believe, of clients that are not trusted', { when: http }), type: 'words', more: true },
    text('tunnel_timeout', 'Tunnel’s rest', '1h', 'of an upgraded connection (WebSocket), 1s to 24h', { more: true, when: http }),
    text('client_hello_timeout', 'TLS name within', '2s', 'where its pool goes by sni, 100ms to 5m', { more: true, when: tcp }),
    text('max_connection_age', 'Longest life', 'none', 'of a connection, 1s to 720h', { more: true, when: tcp }),
    { ...text('trusted', 'Trusted', 'nobody', 'networks whose word of who the client is is believed', { when: streams }), type: 'words', more: true },
    { ...text('proxy_protocol', 'PROXY protocol', '', 'connections of trusted peers begin with its header', { when: streams }), type: 'flag', of: ['yes'], more: true },
  ],
  pool: [
    { ...text('algorithm', 'Algorithm', '', 'how servers are picked'), type: 'choice', of: ['round-robin', 'least-connections', 'least-load', 'random-two', 'hash', 'in-order'] },
    { ...text('hash_keys', 'By the key', 'client-address', 'client-address, path, path-with-query, host, query:NAME, header:NAME, cookie:NAME; the first that there is', { when: hash }), type: 'words' },
    { ...text('hash_when_absent', 'Without a key', '', 'dealt out in turns, or refused', { when: hash }), type: 'choice', of: ['spread', 'refuse'] },
    { ...text('hash_prefix_ipv4', 'IPv4 prefix', '32', 'bits of a client’s address that count', { when: hash }), type: 'number' },
    { ...text('hash_prefix_ipv6', 'IPv6 prefix', '64', 'bits of a client’s address that count', { when: hash }), type: 'number' },
    { ...text('bounded_load', 'Bound, %', 'none', 'the most of its share of the work in flight, 101 to 1000', { when: hash }), type: 'number' },
    { ...text('persistence', 'Session persistence', '', 'tied to their server by a signed cookie (http)'), type: 'choice', of: ['cookie'] },
    { ...text('check', 'Check', 'none', 'judges its servers; without one each is taken to work'), type: 'object', kind: 'check' },
    { ...text('more_checks', 'More checks', 'none', 'names, made with it'), type: 'words', more: true },
    { ...text('checks_needed', 'Has to pass', '', 'of several checks'), type: 'choice', of: ['all', 'any'], more: true },
    { ...text('passive_check.failures', 'Passive check: failures', 'none', 'so many failures of real traffic within the time change a server’s health; without a number none does'), type: 'number', more: true },
    text('passive_check.within', 'Passive check: within', '10s', '1s to 60s', { more: true }),
    { ...text('passive_check.count_5xx', 'Passive check: 5xx', '', 'responses with a status of 500 and above count too'), type: 'flag', of: ['yes'], more: true },
    { ...text('passive_check.action', 'Passive check: action', 'suspect', 'what the failures make of a server that is up'), type: 'choice', of: ['suspect', 'down'], more: true },
    { ...text('passive_check.allow_last', 'Passive check: last server', '', 'the last eligible server may go down by it too'), type: 'flag', of: ['yes'], more: true },
    { ...text('when_none', 'When none passes', '', 'work is refused or goes elsewhere, or goes to all that fail'), type: 'choice', of: ['refuse', 'all'], more: true },
    note,
    ...times(true, false),
    text('pin_cookie', 'Name of the cookie', 'merismos-pin', 'that ties clients', { more: true, when: { key: 'persistence', is: 'cookie' } }),
    text('pin_lifetime', 'Pin lifetime', 'the session', '1m to 720h', { more: true, when: { key: 'persistence', is: 'cookie' } }),
    { ...text('capacity', 'Capacity, %', '100', 'how much of their limits its servers may use'), type: 'number', more: true },
    text('ramp', 'Ramp', 'none', 'in which the share of a server that comes back grows, 1s to 1h', { more: true }),
    { ...text('tier_min_eligible', 'A tier works from', '1', 'eligible servers'), type: 'number', more: true },
    text('failback', 'Failback', 'automatic', 'when work goes back to a lower tier: automatic, after 5m, by hand', { more: true }),
    ...limits('none'),
    { ...text('queue_limit', 'May wait', '100', 'pieces of work while every server is full; 0 is no queue'), type: 'number', more: true },
    text('queue_timeout', 'May wait for', '1s', '10ms to 10m', { more: true }),
    { ...text('min_eligible', 'Usable from', '1', 'eligible servers, for a frontend with several pools'), type: 'number', more: true },
    { ...text('proxy_protocol', 'PROXY protocol', '', 'the header that its servers want'), type: 'choice', of: ['v1', 'v2'], more: true },
    { ...text('http_version', 'HTTP to servers', '', 'whatever their clients speak'), type: 'choice', of: ['1.1', '2'], more: true },
    { ...text('source_addresses', 'From addresses', 'the system’s choice', 'of this machine, in turn'), type: 'words', more: true },
    { ...text('idle_connections', 'Kept connections', '128', 'unused, to a server, of each worker'), type: 'number', more: true },
    text('idle_connection_timeout', 'Kept unused for', '4s', '100ms to 1h', { more: true }),
    text('idle_connection_age', 'Kept until old', '1h', '1s to 24h', { more: true }),
    { ...text('preconnect', 'Connections ahead', '0', 'that each worker makes to a server that comes back'), type: 'number', more: true },
    { ...text('attempts', 'Attempts', '3', 'servers that one request may be offered to, over all tiers and pools, 1 to 16'), type: 'number', more: true },
    { ...text('suspect_share', 'Share while suspect, %', '50', 'of its share; 100 where nothing is said with hash and in-order'), type: 'number', more: true },
    text('retry_after', 'Retry after', 'none', 'without a first byte an idempotent request goes to another server, 10ms to 1h', { more: true }),
    { ...text('retry_budget', 'Retry budget, %', '10', 'of requests that may do so'), type: 'number', more: true },
    { ...text('on_down', 'TCP when down', '', 'connections to a server that goes down'), type: 'choice', of: ['break', 'keep'], more: true },
    { ...text('on_failback', 'TCP at failback', '', 'connections to a server that stands by again'), type: 'choice', of: ['keep', 'break'], more: true },
  ],
  server: [
    text('address', 'Address', '192.0.2.21:8080', 'address:port or host:port', { needed: true }),
    { ...text('other_addresses', 'Also at', 'nowhere else', 'the connection that is made first is used'), type: 'words', more: true },
    { ...text('weight', 'Weight', '1', 'its part of the work, 0 to 1000'), type: 'number' },
    { ...text('tier', 'Tier', '0', 'the lowest tier with a server that can work does, 0 to 7'), type: 'number' },
    note,
    { ...text('capacity', 'Capacity, %', '100', 'how much of its weight and limits counts'), type: 'number', more: true },
    ...limits('as the pool'),
    ...times(true, true),
  ],
  lookup: [
    text('name', 'DNS name', 'booking.skerry.example', 'its answers are servers of the pool', { needed: true }),
    { ...text('records', 'Records', '', 'address: A and AAAA; service: SRV'), type: 'choice', of: ['address', 'service'], needed: true },
    { ...text('port', 'Port', '', 'of each server'), type: 'number', needed: true, when: { key: 'records', is: 'address' } },
    { ...text('weight', 'Weight', '1', 'of each server'), type: 'number', when: { key: 'records', is: 'address' } },
    { ...text('merge_addresses', 'One server', '', 'all addresses of a name are one server’s'), type: 'flag', of: ['yes'] },
    text('resolver', 'Name server', 'the machine’s own', 'address:port'),
    { ...text('when_empty', 'When empty', '', 'what becomes of servers when no records are left'), type: 'choice', of: ['keep', 'remove'] },
    note,
  ],
  check: [
    { ...text('kind', 'Check type', '', 'what a probe asks the server'), type: 'choice', of: ['tcp', 'http', 'icmp', 'udp', 'dns', 'tls', 'sql', 'grpc', 'command'], needed: true },
    text('path', 'Path', '/', 'what is asked for', { when: ofHttp }),
    { ...text('accept', 'Expected status', '200-299', 'status codes and ranges, spaces between', { when: ofHttp }), type: 'words' },
    text('method', 'Method', 'GET', '', { more: true, when: ofHttp }),
    text('host', 'Host', 'the server’s address', 'that is asked for', { more: true, when: ofHttp }),
    { ...text('http_version', 'HTTP', '', 'the version', { when: ofHttp }), type: 'choice', of: ['1.1', '2'], more: true },
    text('body_contains', 'Body contains', '', 'a text', { when: ofHttp }),
    text('body_matches', 'Body matches', '', 'a regular expression', { more: true, when: ofHttp }),
    text('body_not_contains', 'Body lacks', '', 'a text', { more: true, when: ofHttp }),
    text('json_pointer', 'JSON pointer', '/state', 'where in the body a value stands', { more: true, when: ofHttp }),
    text('json_expect', 'That value', '= ready', 'a condition', { more: true, when: ofHttp }),
    { ...text('redirects', 'Redirections', '0', 'that are followed, 0 to 5', { when: ofHttp }), type: 'number', more: true },
    { ...text('keep_alive', 'Keeps its connection', '', 'for the next probe (HTTP/1.1): cheaper, and it proves less', { when: ofHttp }), type: 'flag', of: ['yes'], more: true },
    { ...text('server_feedback', 'Does what servers ask for', '', 'in the field Merismos-Feedback: a smaller share, or to be drained', { when: ofHttp }), type: 'flag', of: ['yes'], more: true },
    { ...text('tls', 'TLS', '', 'what is checked of the certificate', { when: ofKind('http', 'sql') }), type: 'choice', of: ['verified', 'unverified'], more: true },
    { ...text('tls', 'Certificate', '', 'what is checked of it', { when: ofKind('tls') }), type: 'choice', of: ['verified', 'unverified'] },
    text('tls_name', 'Name', '', 'that the certificate has to be for', { when: ofKind('tls') }),
    { ...text('warn_days', 'Says “soon” from', '14', 'days before its end', { when: ofKind('tls') }), type: 'number' },
    text('send', 'Sends', '', 'a text, perhaps with escapes: PING\\r\\n, \\x00\\x01', { when: ofKind('tcp', 'udp'), escaped: true }),
    text('expect', 'Expects', '', 'a text that the answer contains, perhaps with escapes', { when: ofKind('tcp', 'udp'), escaped: true }),
    text('name', 'Name', 'booking.skerry.example', 'that is asked for', { needed: true, when: ofKind('dns') }),
    { ...text('record', 'Record', '', 'its type', { when: ofKind('dns') }), type: 'choice', of: ['A', 'AAAA', 'CNAME', 'MX', 'NS', 'PTR', 'SOA', 'SRV', 'TXT'] },
    text('expect', 'Expects', '', 'a value among the answers', { when: ofKind('dns') }),
    text('user', 'User', 'merismos', 'who logs in', { needed: true, when: ofKind('sql') }),
    text('password', 'Password', 'environment:MERISMOS_SECRET_PROBE', 'where it stands: environment:MERISMOS_SECRET_NAME, or file:/PATH in the secrets folder', { when: ofKind('sql') }),
    text('query', 'Query', 'SELECT @@read_only', 'one statement that reads', { needed: true, when: ofKind('sql') }),
    text('column', 'Column', 'the first', 'whose value is judged', { when: ofKind('sql') }),
    text('expect', 'Expected value', '= 0', 'a condition', { when: ofKind('sql') }),
    text('service', 'Service', 'the whole server', 'that is asked about', { when: ofKind('grpc') }),
    text('program', 'Program', 'lag', 'its file name in the service’s folder', { needed: true, when: ofKind('command') }),
    { ...text('port', 'Port', 'the server’s', 'another one to ask'), type: 'number', more: true },
    text('address', 'Address', 'the server’s', 'another one to ask', { more: true }),
    text('interval', 'Every', '2s', 'from probe to probe, 100ms to 1h'),
    text('interval_down', 'While down', 'as often', '100ms to 1h', { more: true }),
    text('timeout', 'Timeout', '1s', 'how long a probe may take, 10ms to 60s'),
    { ...text('down_after', 'Down after', '3', 'failures in a row'), type: 'number' },
    { ...text('up_after', 'Up after', '2', 'passes in a row'), type: 'number' },
    { ...text('flapping_after', 'Flapping after', '3', 'times down, 2 to 100'), type: 'number', more: true },
    text('flapping_within', 'Within', '10m', '1m to 24h', { more: true }),
    text('hold_down', 'Held down for', 'not held', 'when flapping: the first time; then twice as long each time, 1s to 1h', { more: true }),
    text('hold_down_most', 'Held down at most', '10m', '1s to 24h', { more: true }),
    note,
  ],
  host: [text('address', 'Address', '192.0.2.21', 'its IP address', { needed: true }), note],
  range: [
    text('addresses', 'Addresses', '192.0.2.16/28', 'a prefix, or first-last', { needed: true }),
    note,
  ],
  network: [{ ...text('prefixes', 'Networks', '192.0.2.0/24 2001:db8::7', 'addresses and prefixes', { needed: true }), type: 'words' }],
  notification: [
    { ...text('pools', 'Of pools', 'all', 'whose changes are told'), type: 'words' },
    { ...text('changes', 'Of changes', 'down up empty', 'down, up, suspect, flapping, empty, filled, failing, answering, moved, moved-back'), type: 'words' },
    text('webhook', 'Webhook', 'https://bell.skerry.example/hook', 'where JSON is posted to'),
    text('webhook_secret', 'Its secret', 'environment:HOOK', 'where it stands; posts are signed with it'),
    { ...text('mail_to', 'E-mail to', 'watch@skerry.example', 'one or more'), type: 'words' },
    text('mail_from', 'E-mail from', 'merismos@skerry.example', ''),
    text('mail_server', 'Mail server', 'mail.skerry.example:587', 'host:port'),
    { ...text('mail_tls', 'Its TLS', '', 'STARTTLS on a plain connection, from the first byte, or none'), type: 'choice', of: ['starttls', 'tls', 'none'], more: true },
    text('mail_user', 'Its user', 'nobody logs in', '', { more: true }),
    text('mail_password', 'Its password', 'environment:MERISMOS_SECRET_MAIL', 'where it stands', { more: true }),
    text('min_duration', 'Lasting', 'at once', 'only what has lasted so long, 1s to 24h'),
    text('batch_window', 'Gathered for', '5s', '100ms to 10m', { more: true }),
    text('min_interval', 'At most every', '1m', '1s to 24h', { more: true }),
    note,
  ],
  reserved: [text('address', 'Address', '', 'the address')],
}

/** Whether a field has a meaning beside the values of the others. An empty one stands for its default. */
export function applies(field: Field, values: Record<string, string>): boolean {
  if (!field.when) return true
  const value = values[field.when.key] ?? ''
  return Array.isArray(field.when.is) ? field.when.is.includes(value) : field.when.is === value
}

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
  if (field.type === 'flag') return value === true ? 'yes' : ''
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
  if (field.type === 'words') return trimmed.split(/[\s,]+/)
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
  notification: { one: 'notification', many: 'Notifications', home: 'notifications' },
  reserved: { one: 'reserved address', many: 'Reserved addresses', home: 'ranges' },
}
