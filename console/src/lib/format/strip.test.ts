import { expect, test } from 'vitest'
import { bars, midnights } from './strip'

const at = (day: number, hour: number) => new Date(2026, 11, day, hour).toISOString()

test('a strip begins with the day it is asked for, and has a midnight a day', () => {
  const strip = midnights(at(1, 15), 3)
  expect(strip.map((day) => [day.getDate(), day.getHours()])).toEqual([
    [1, 0],
    [2, 0],
    [3, 0],
  ])
})

test('times are bars; what reaches over an edge is cut, what is outside is left out', () => {
  const strip = midnights(at(1, 15), 4)
  const times = [
    { start: at(2, 0), end: at(2, 12) },
    { start: at(4, 12), end: at(6, 0) },
    { start: at(7, 0), end: at(7, 1) },
  ]
  const found = bars({ times }, strip)
  expect(found.map(({ left, width }) => [left, width])).toEqual([
    [25, 12.5],
    [87.5, 12.5],
  ])
})
