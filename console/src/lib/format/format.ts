// Numbers and times for people; the same words as the command line.

import type { Timing } from '../api/types'

export const percent = (share: number | null) => (share === null ? '–' : `${(share * 100).toFixed(1)} %`)

/** A difference of shares in points of percent, with its sign; nothing is plain 0.0. */
export function points(difference: number): string {
  const tenths = Math.round(difference * 1000)
  return tenths === 0 ? '0.0' : `${tenths > 0 ? '+' : ''}${(tenths / 10).toFixed(1)}`
}

export const rate = (perSecond: number) => (perSecond >= 100 ? perSecond.toFixed(0) : perSecond.toFixed(1))

export function length(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`
  if (ms < 10_000) return `${(ms / 1000).toFixed(1)} s`
  if (ms < 120_000) return `${Math.floor(ms / 1000)} s`
  if (ms < 7_200_000) return `${Math.floor(ms / 60_000)} min`
  if (ms < 172_800_000) return `${Math.floor(ms / 3_600_000)} h ${Math.floor(ms / 60_000) % 60} min`
  return `${Math.floor(ms / 86_400_000)} d`
}

export const micros = (us: number | null) => (us === null ? '–' : us < 10_000 ? `${(us / 1000).toFixed(1)} ms` : length(us / 1000))

/** A count of bytes in the largest unit of which it has one. */
export function bytes(count: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB', 'PiB']
  const step = Math.min(units.length - 1, count < 1 ? 0 : Math.floor(Math.log2(count) / 10))
  return step === 0 ? `${count} B` : `${(count / 1024 ** step).toFixed(1)} ${units[step]}`
}

/** How long before `now` something was. */
export const ago = (then: string, now: string) => length(Math.max(0, Date.parse(now) - Date.parse(then)))

export const clock = (at: string) => new Date(at).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second: '2-digit', hour12: false })

/** A day and a time, in the reader's own time zone, as on the command line. */
export function moment(at: string): string {
  const it = new Date(at)
  const two = (number: number) => String(number).padStart(2, '0')
  return `${it.getFullYear()}-${two(it.getMonth() + 1)}-${two(it.getDate())} ${two(it.getHours())}:${two(it.getMinutes())}`
}

export const shortName = (server: string) => server.split('/')[1] ?? server

/** How long noticing takes, in words. */
export const noticed = (timing: Timing) =>
  `noticed after ${length(timing.noticed.best_ms)} at best, ${length(timing.noticed.average_ms)} on average, ${length(
    timing.noticed.worst_ms,
  )} at worst; back after ${length(timing.back.average_ms)} on average; ${timing.probes_per_minute} probes a minute for each server`

/** A text of at most so many letters: of a longer one the beginning and the end, which is where names differ. */
export function fit(text: string, letters: number): string {
  if (text.length <= letters) return text
  const end = Math.floor((letters - 1) / 3)
  return `${text.slice(0, letters - 1 - end)}…${text.slice(text.length - end)}`
}

/** The time zone in which times are shown, such as `UTC` or `CET`. */
export const zone =
  new Intl.DateTimeFormat('en-GB', { timeZoneName: 'short' }).formatToParts(new Date()).find((part) => part.type === 'timeZoneName')?.value ?? ''
