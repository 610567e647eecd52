import { createRouter, createWebHistory } from 'vue-router'
import { answer, api } from './api/client'
import { useSession } from './composables/useSession'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'overview', component: () => import('./pages/OverviewPage.vue'), meta: { title: 'Overview' } },
    { path: '/workstations/:id', name: 'workstation', component: () => import('./pages/WorkstationPage.vue'), props: true, meta: { title: 'Workstation' } },
    { path: '/workstations/:id/browse', name: 'browse', component: () => import('./pages/BrowsePage.vue'), props: true, meta: { title: 'Browse and restore' } },
    { path: '/storage', name: 'storage', component: () => import('./pages/StoragePage.vue'), meta: { title: 'Storage' } },
    { path: '/people', name: 'people', component: () => import('./pages/PeoplePage.vue'), meta: { title: 'People' } },
    { path: '/access', name: 'access', component: () => import('./pages/AccessPage.vue'), meta: { title: 'Access' } },
    { path: '/machines', name: 'machines', component: () => import('./pages/MachinesPage.vue'), meta: { title: 'Machines' } },
    { path: '/activity', name: 'activity', component: () => import('./pages/ActivityPage.vue'), meta: { title: 'Activity' } },
    { path: '/me', name: 'me', component: () => import('./pages/MePage.vue'), meta: { title: 'You' } },
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignInPage.vue'), meta: { title: 'Sign in', open: true } },
    { path: '/begin', name: 'begin', component: () => import('./pages/BeginPage.vue'), meta: { title: 'Begin', open: true } },
    { path: '/downloads', name: 'downloads', component: () => import('./pages/DownloadsPage.vue'), meta: { title: 'Get the program', open: true } },
    { path: '/:path(.*)*', name: 'nowhere', component: () => import('./pages/NowherePage.vue'), meta: { title: 'Not found' } },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  await session.known()
  if (to.meta.open || session.account.value) return true
  try {
    const info = await answer(api.GET('/api/v1/service'))
    if (info.awaits_first_administrator) return { name: 'begin' }
  } catch {
    // The sign-in page says that the service does not answer.
  }
  return { name: 'sign-in', query: to.fullPath === '/' ? {} : { to: to.fullPath } }
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title)} – Jetfrost`
})
