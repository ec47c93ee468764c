import { expect, it } from 'vitest'
import { useAnswer } from './useAnswer'

const settled = () => new Promise((done) => setTimeout(done))

it('gives an answer or an error while what asked is shown, and nothing after that', async () => {
  const seen: string[] = []
  useAnswer(
    Promise.resolve('first'),
    (answer) => seen.push(answer),
    () => seen.push('failed'),
  )
  useAnswer(
    Promise.reject(new Error('away')),
    () => seen.push('found'),
    (error) => seen.push(String(error)),
  )
  const gone = useAnswer(
    Promise.resolve('late'),
    (answer) => seen.push(answer),
    () => seen.push('failed late'),
  )
  gone()
  await settled()
  expect(seen.sort()).toEqual(['Error: away', 'first'])
})
