import { describe, expect, it } from 'vitest'
import { announcement, fresh } from '../desk/announce.svelte'
import { escaped, unescaped } from './escape'
import { length, percent, points, rate } from './format'

describe('numbers and times', () => {
  it.each([
    [0, '0 ms'],
    [999, '999 ms'],
    [4_210, '4.2 s'],
    [12_000, '12 s'],
    [180_000, '3 min'],
  ])('%d ms is %s', (ms, text) => expect(length(ms)).toBe(text))

  it('are rounded alike', () => {
    expect([percent(0.1666), percent(null), points(0.061), points(-0.0001), rate(12.34), rate(123.4)]).toEqual(['16.7 %', '–', '+6.1', '0.0', '12.3', '123'])
  })
})

describe('escapes', () => {
  it.each(['PING\r\n', '\u0000\u0001', 'ä\\'])('%j comes back', (text) => expect(unescaped(escaped(text))).toBe(text))
  it('refuse what is none', () => expect(unescaped('\\d')).toBeNull())
})

describe('announcements', () => {
  it('say a trouble once, whatever its numbers do', () => {
    const before = ['pool booking: 2 of 3 servers down for 12 s']
    expect(fresh(before, ['pool booking: 2 of 3 servers down for 13 s'])).toEqual([])
    expect(fresh(before, [...before, 'frontend web does not listen'])).toEqual(['frontend web does not listen'])
  })
  it('stay beside one that follows at once', () => {
    for (let turn = 1; turn <= 9; turn++) announcement.say(`turn ${turn}`)
    announcement.say('turn 9')
    expect(announcement.said.map(({ text }) => text)).toEqual(['turn 6', 'turn 7', 'turn 8', 'turn 9', 'turn 9'])
  })
})
