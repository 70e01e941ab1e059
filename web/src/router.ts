import { createRouter, createWebHistory } from 'vue-router'

// One page for each step of the job, in the order people work. What a page shows is in its query, so that the
// address can be sent to a colleague.
export const steps = [
  { path: '/overview', title: 'Overview', page: () => import('./pages/overview/OverviewPage.vue') },
  { path: '/links', title: 'Links', page: () => import('./pages/links/LinksPage.vue') },
  { path: '/stations', title: 'Stations', page: () => import('./pages/stations/StationsPage.vue') },
  { path: '/points', title: 'Points', page: () => import('./pages/points/PointsPage.vue') },
  { path: '/live', title: 'Live', page: () => import('./pages/live/LivePage.vue') },
  { path: '/events', title: 'Events', page: () => import('./pages/events/EventsPage.vue') },
  { path: '/communication', title: 'Communication', page: () => import('./pages/communication/CommunicationPage.vue') },
  { path: '/traffic', title: 'Traffic', page: () => import('./pages/traffic/TrafficPage.vue') },
  { path: '/rig', title: 'Rig', page: () => import('./pages/rig/RigPage.vue') },
  { path: '/changes', title: 'Changes', page: () => import('./pages/changes/ChangesPage.vue') },
]

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/overview' },
    ...steps.map((s) => ({ path: s.path, component: s.page, meta: { title: s.title } })),
    { path: '/:rest(.*)*', redirect: '/overview' },
  ],
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title ?? 'Arithmon')} · Arithmon`
})
