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

/** How long an answer that is asked for again and again is shown. */
const ASK_AGAIN_MS = 5000

/** As `useAnswer`, and after a few seconds `again` is called, which has the effect run anew. */
export function useAnswers<T>(asked: Promise<T>, found: (answer: T) => void, failed: (error: unknown) => void, again: () => void): () => void {
  const drop = useAnswer(asked, found, failed)
  const later = setTimeout(again, ASK_AGAIN_MS)
  return () => {
    drop()
    clearTimeout(later)
  }
}
