import { describe, expect, it } from 'vitest'
import { applies, byKey, choicesOf, FIELDS, meant, meantLabels, put, shown, valueAt, wholeNumber, wrong, wrongName, type Field } from './fields'
import type { Keys } from '../api/types'

const field = (kind: keyof typeof FIELDS, key: string): Field => {
  const found = FIELDS[kind].find((field) => field.key === key)
  if (!found) throw new Error(`${kind} has no ${key}`)
  return found
}

describe('fields of forms', () => {
  it('know every kind and its needed keys', () => {
    expect(Object.keys(FIELDS).sort()).toEqual([
      'address',
      'announcement',
      'authority',
      'certificate',
      'check',
      'example',
      'frontend',
      'host',
      'limit',
      'lookup',
      'network',
      'notification',
      'pool',
      'range',
      'reserved',
      'rule',
      'server',
    ])
    expect(FIELDS.frontend.filter((field) => field.needed).map((field) => field.key)).toEqual(['protocol', 'listen', 'pool'])
    expect(FIELDS.notification.some((field) => field.needed)).toBe(false)
  })

  it('apply where their conditions hold', () => {
    expect(applies(field('frontend', 'header_timeout'), { protocol: 'http' })).toBe(true)
    expect(applies(field('frontend', 'header_timeout'), { protocol: 'tcp' })).toBe(false)
    expect(applies(field('pool', 'hash_keys'), { algorithm: '' })).toBe(false)
    expect(applies(field('pool', 'hash_keys'), { algorithm: 'hash' })).toBe(true)
  })

  it('offer the choices that other values allow', () => {
    const names = (protocol: string) => choicesOf(field('frontend', 'balance_per'), { protocol }).map((choice) => choice.name)
    expect(names('http')).toEqual(['request', 'connection'])
    expect(names('udp')).toEqual(['flow', 'datagram'])
  })

  it.each([
    ['pool', 'attempts', '5', 5],
    ['pool', 'attempts', 'five', 'five'],
    ['pool', 'ramp', ' 30s ', '30s'],
    ['pool', 'ramp', '', null],
    ['pool', 'more_checks', 'lag, deep', ['lag', 'deep']],
    ['check', 'keep_alive', 'yes', true],
    ['check', 'keep_alive', 'no', false],
    ['check', 'send', 'PING\\r\\n', 'PING\r\n'],
    ['frontend', 'pool_weights', 'a=3 b=1', { a: 3, b: 1 }],
    ['frontend', 'pool_networks', 'a=islands,coast', { a: ['islands', 'coast'] }],
    ['notification', 'changes', 'down up', ['down', 'up']],
  ] as const)('%s.%s: %j means %j', (kind, key, text, value) => {
    expect(meant(field(kind, key), text, undefined)).toEqual(value)
  })

  it('take away what is not named any more', () => {
    expect(meant(field('frontend', 'pool_weights'), 'a=3', { a: 1, b: 2 })).toEqual({ a: 3, b: null })
    expect(meantLabels('site=north', { site: 'south', rack: 'r7' })).toEqual({ site: 'north', rack: null })
  })

  it('show what they mean', () => {
    const keys: Keys = { pool_weights: { a: 3, b: 1 }, dropped_fields: ['X-A', 'X-B'], trusted: [], passive_check: { failures: 5 } }
    expect(shown(field('frontend', 'pool_weights'), keys)).toBe('a=3 b=1')
    expect(shown(field('frontend', 'dropped_fields'), keys)).toBe('X-A X-B')
    expect(shown(field('pool', 'passive_check.failures'), keys)).toBe('5')
    expect(shown(field('check', 'send'), { send: 'a\r\n' })).toBe('a\\r\\n')
  })

  it('put and find keys of tables', () => {
    const keys: Keys = {}
    put(keys, 'passive_check.failures', 5)
    put(keys, 'passive_check.within', '10s')
    expect(keys).toEqual({ passive_check: { failures: 5, within: '10s' } })
    expect(valueAt(keys, 'passive_check.within')).toBe('10s')
    put(keys, 'passive_check.failures', null)
    expect(keys).toEqual({ passive_check: null })
  })

  it('say what is wrong before the service is asked', () => {
    expect(wrong(field('check', 'send'), '\\d')).not.toBeNull()
    expect(wrong(field('check', 'send'), '\\x00')).toBeNull()
    expect(wrongName('Bad Name')).not.toBeNull()
    expect(wrongName('gull-2')).toBeNull()
    expect(wholeNumber('12', 1, 20)).toBe(12)
    expect(wholeNumber('21', 1, 20)).not.toBeTypeOf('number')
  })

  it('find mistakes by key, also those of tables inside', () => {
    const at = (path: string) => ({ path, line: null, found: path, expected: '' })
    const found = byKey([at('pools.a.attempts'), at('pools.a.passive_check.within'), at('pools.ab.ramp'), at('pools.a')], 'pools.a')
    expect(Object.keys(found).sort()).toEqual(['', 'attempts', 'passive_check', 'passive_check.within'])
  })
})
