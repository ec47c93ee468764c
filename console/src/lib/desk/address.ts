// What a page shows stands in its address, so that it can be kept and sent to a colleague.

/** What the address asks for. */
export const asked = (key: string) => new URLSearchParams(location.search).get(key) ?? ''

/** A place in a list, from 0. */
export const askedNumber = (key: string) => (/^\d{1,9}$/.test(asked(key)) ? Number(asked(key)) : 0)

/** Writes what is shown into the address of this page; what is empty or 0 is left out. */
export function tell(shown: Record<string, string | number>) {
  const pairs = Object.entries(shown).filter(([, value]) => value !== '' && value !== 0)
  const search = new URLSearchParams(pairs.map(([key, value]) => [key, String(value)])).toString()
  if (search !== location.search.replace(/^\?/, '')) history.replaceState(history.state, '', search ? `?${search}` : location.pathname)
}
