// Every page has an address of its own.

import { createRouter } from 'sv-router'
import AccessPage from './pages/AccessPage.svelte'
import ChangesPage from './pages/ChangesPage.svelte'
import DraftPage from './pages/DraftPage.svelte'
import EventsPage from './pages/EventsPage.svelte'
import HostsPage from './pages/HostsPage.svelte'
import ListPage from './pages/ListPage.svelte'
import MaintenancePage from './pages/MaintenancePage.svelte'
import NewServicePage from './pages/NewServicePage.svelte'
import NodesPage from './pages/NodesPage.svelte'
import NoSuchPage from './pages/NoSuchPage.svelte'
import OverviewPage from './pages/OverviewPage.svelte'
import PoolPage from './pages/PoolPage.svelte'
import RevisionPage from './pages/RevisionPage.svelte'
import ObjectPage from './pages/ObjectPage.svelte'

export const { navigate, route, isActive } = createRouter({
  '/': OverviewPage,
  '/new-service': NewServicePage,
  '/frontends': ListPage,
  '/frontends/:name': ObjectPage,
  '/pools': ListPage,
  '/pools/:name': PoolPage,
  '/checks': ListPage,
  '/checks/:name': ObjectPage,
  '/hosts': HostsPage,
  '/hosts/:name': ObjectPage,
  '/ranges': ListPage,
  '/ranges/:name': ObjectPage,
  '/networks': ListPage,
  '/networks/:name': ObjectPage,
  '/rules': ListPage,
  '/rules/:name': ObjectPage,
  '/limits': ListPage,
  '/limits/:name': ObjectPage,
  '/examples': ListPage,
  '/examples/:name': ObjectPage,
  '/addresses': ListPage,
  '/addresses/:name': ObjectPage,
  '/announce': ListPage,
  '/announce/:name': ObjectPage,
  '/authorities': ListPage,
  '/authorities/:name': ObjectPage,
  '/certificates': ListPage,
  '/certificates/:name': ObjectPage,
  '/notifications': ListPage,
  '/notifications/:name': ObjectPage,
  '/maintenance': MaintenancePage,
  '/events': EventsPage,
  '/access': AccessPage,
  '/nodes': NodesPage,
  '/changes': ChangesPage,
  '/changes/drafts/:name': DraftPage,
  '/changes/revisions/:number': RevisionPage,
  '*': NoSuchPage,
})
