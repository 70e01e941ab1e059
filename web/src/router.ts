import { AlarmClock, Bell, ChatLineSquare, Clock, Connection, CopyDocument, Cpu, DataAnalysis, DataLine, EditPen, House, List, MagicStick, Odometer, Operation, TrendCharts, User, Warning } from '@element-plus/icons-vue'
import { createRouter, createWebHistory } from 'vue-router'

/**
 * The pages in the order of the job: the plant, watching it, and what comes then. What a page shows is in its query, so that the address can
 * be sent to a colleague. What a page is called stands in the catalogue, under pages.
 */
export const groups = [
  {
    name: 'plant',
    pages: [
      { path: '/overview', name: 'overview', icon: House, page: () => import('./pages/overview/OverviewPage.vue') },
      { path: '/links', name: 'links', icon: Connection, page: () => import('./pages/links/LinksPage.vue') },
      { path: '/stations', name: 'stations', icon: Cpu, page: () => import('./pages/stations/StationsPage.vue') },
      { path: '/templates', name: 'templates', icon: CopyDocument, page: () => import('./pages/templates/TemplatesPage.vue') },
      { path: '/points', name: 'points', icon: List, page: () => import('./pages/points/PointsPage.vue') },
    ],
  },
  {
    name: 'watching',
    pages: [
      { path: '/live', name: 'live', icon: TrendCharts, page: () => import('./pages/live/LivePage.vue') },
      { path: '/boards', name: 'boards', icon: Odometer, page: () => import('./pages/boards/BoardsPage.vue') },
      { path: '/trends', name: 'trends', icon: DataAnalysis, page: () => import('./pages/trends/TrendsPage.vue') },
      { path: '/alarms', name: 'alarms', icon: AlarmClock, page: () => import('./pages/alarms/AlarmsPage.vue') },
      { path: '/events', name: 'events', icon: Bell, page: () => import('./pages/events/EventsPage.vue') },
      { path: '/communication', name: 'communication', icon: DataLine, page: () => import('./pages/communication/CommunicationPage.vue') },
      { path: '/findings', name: 'findings', icon: Warning, page: () => import('./pages/findings/FindingsPage.vue') },
      { path: '/traffic', name: 'traffic', icon: Operation, page: () => import('./pages/traffic/TrafficPage.vue') },
    ],
  },
  {
    name: 'then',
    pages: [
      { path: '/changes', name: 'changes', icon: Clock, page: () => import('./pages/changes/ChangesPage.vue') },
      { path: '/notes', name: 'notes', icon: ChatLineSquare, page: () => import('./pages/notes/NotesPage.vue') },
      { path: '/accounts', name: 'accounts', icon: User, page: () => import('./pages/accounts/AccountsPage.vue') },
      { path: '/rig', name: 'rig', icon: MagicStick, page: () => import('./pages/rig/RigPage.vue') },
    ],
  },
]

/** Pages that no list names. */
const besides = [{ path: '/begin', name: 'begin', icon: EditPen, page: () => import('./pages/begin/BeginPage.vue') }]

export const pages = groups.flatMap((g) => g.pages)

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: (to) => ({ path: '/overview', query: to.query }) },
    ...[...pages, ...besides].map((p) => ({ path: p.path, component: p.page, meta: { name: p.name } })),
    { path: '/:rest(.*)*', redirect: '/overview' },
  ],
})
