// The titles of pages, for tabs and bookmarks.

const PAGES: Record<string, string> = {
  '': 'Overview',
  frontends: 'Frontends',
  pools: 'Pools',
  checks: 'Checks',
  hosts: 'Hosts',
  ranges: 'Addresses',
  networks: 'Networks',
  certificates: 'Certificates',
  addresses: 'Service addresses',
  announce: 'Announced addresses',
  authorities: 'Authorities',
  rules: 'Rules',
  limits: 'Limits',
  examples: 'Examples',
  notifications: 'Notifications',
  maintenance: 'Maintenance',
  changes: 'Changes',
  events: 'Events',
  access: 'Access',
  nodes: 'Nodes',
  'new-service': 'New service',
}

export function titleOf(pathname: string): string {
  const [page = '', ...rest] = pathname.split('/').slice(1)
  const known = PAGES[page]
  if (known === undefined) return 'No such page · Merismos'
  const name = page === 'changes' ? rest.join(' ').replace(/s /, ' ') : (rest[0] ?? '')
  return [...(name ? [name] : []), known, 'Merismos'].join(' · ')
}
