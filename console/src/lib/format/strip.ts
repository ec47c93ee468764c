// Where the times of windows are on a strip of days.

import type { MaintenanceWindow } from '../api/types'

const DAY_MS = 86_400_000

export interface Bar {
  start: string
  end: string
  /** From the left edge, and how wide, in hundredths of the strip. */
  left: number
  width: number
}

/** The midnights of a strip, in the reader's own time zone: the day of `from` and those after it. */
export function midnights(from: string, days: number): Date[] {
  const first = new Date(from)
  first.setHours(0, 0, 0, 0)
  return Array.from({ length: days }, (_, index) => {
    const day = new Date(first)
    day.setDate(first.getDate() + index)
    return day
  })
}

/** The times of a window as bars; those outside of the strip are left out, those that reach over its edges are cut. */
export function bars(window: Pick<MaintenanceWindow, 'times'>, strip: Date[]): Bar[] {
  const first = strip[0]?.getTime() ?? 0
  const last = (strip.at(-1)?.getTime() ?? 0) + DAY_MS
  const inside = (at: string) => Math.min(Math.max(Date.parse(at), first), last)
  return window.times.flatMap(({ start, end }) => {
    const [left, right] = [inside(start), inside(end)].map((at) => ((at - first) / (last - first)) * 100) as [number, number]
    return right > left ? [{ start, end, left, width: right - left }] : []
  })
}

/** The first days of months within so many days, by how far they are along, in percent. */
export function months(from: string, days: number): { name: string; left: number }[] {
  const start = new Date(from)
  const marks = []
  for (let month = 1; month <= Math.ceil(days / 28); month += 1) {
    const first = new Date(start.getFullYear(), start.getMonth() + month, 1)
    const left = ((first.getTime() - start.getTime()) / (days * 86_400_000)) * 100
    if (left < 97) marks.push({ name: first.toLocaleDateString('en-GB', { month: 'short', year: first.getMonth() === 0 ? '2-digit' : undefined }), left })
  }
  return marks
}
