/** Uses the answer to a call while what asked is still shown: an effect returns what this returns, and an answer that comes after the effect has
 * run again, or after the page is gone, is dropped. */
export function useAnswer<T>(asked: Promise<T>, found: (answer: T) => void, failed: (error: unknown) => void = () => {}): () => void {
  let current = true
  asked.then(
    (answer) => {
      if (current) found(answer)
    },
    (error: unknown) => {
      if (current) failed(error)
    },
  )
  return () => {
    current = false
  }
}
