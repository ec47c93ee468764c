// Where we are, from the address of the page.

import type { Kind } from '../api/types'

const HOMES: Record<string, Kind> = {
  frontends: 'frontend',
  pools: 'pool',
  checks: 'check',
  hosts: 'host',
  ranges: 'range',
  notifications: 'notification',
  networks: 'network',
  certificates: 'certificate',
  addresses: 'address',
  announce: 'announcement',
  authorities: 'authority',
  limits: 'limit',
  rules: 'rule',
  examples: 'example',
}

/** The kind of object that a page's address is about. */
export const kindOf = (pathname: string): Kind => HOMES[pathname.split('/')[1] ?? ''] ?? 'frontend'

/** The page of an object by its path in the document. */
export function pageOf(path: string): string {
  const [home, name] = path.split('.')
  return `/${home}/${name}`
}
