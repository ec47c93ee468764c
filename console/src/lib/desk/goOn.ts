import { navigate } from '../../router'

/** Goes on to another page when work that was begun on this one has ended, unless the person has left the page meanwhile. */
export const goOn = async (from: string, to: string) => {
  if (location.pathname === from) await navigate(to as '/')
}
