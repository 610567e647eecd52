import { createRouter, createWebHistory } from 'vue-router'
import { answer, api } from './api/client'
import { useSession } from './composables/useSession'

export const router = createRouter({
  history: createWebHistory(),
  // Who goes back is where they were; another filter of the same list moves nothing.
  scrollBehavior: (to, from, saved) => (to.hash ? { el: to.hash } : to.path === from.path ? false : (saved ?? { top: 0 })),
  routes: [
    { path: '/', name: 'office', component: () => import('./pages/OfficePage.vue'), meta: { title: 'Office' } },
    { path: '/workstations', name: 'workstations', component: () => import('./pages/WorkstationsPage.vue'), meta: { title: 'Workstations' } },
    { path: '/workstations/:id/browse', name: 'browse', component: () => import('./pages/BrowsePage.vue'), props: true, meta: { title: 'Browse and restore' } },
    {
      path: '/workstations/:id/:tab(points|history|schedule|retention|keys)?',
      name: 'workstation',
      component: () => import('./pages/WorkstationPage.vue'),
      props: ({ params }) => ({ id: params.id, tab: params.tab ?? '' }),
      meta: { title: 'Workstation' },
    },
    { path: '/storage', name: 'storage', component: () => import('./pages/StoragePage.vue'), meta: { title: 'Storage' } },
    { path: '/restores', name: 'restores', component: () => import('./pages/RestoresPage.vue'), meta: { title: 'Restores' } },
    { path: '/people', name: 'people', component: () => import('./pages/PeoplePage.vue'), meta: { title: 'People' } },
    { path: '/people/access', name: 'access', component: () => import('./pages/AccessPage.vue'), meta: { title: 'Access' } },
    { path: '/people/codes', name: 'codes', component: () => import('./pages/CodesPage.vue'), meta: { title: 'Enrolment codes' } },
    { path: '/alerts', name: 'alerts', component: () => import('./pages/AlertsPage.vue'), meta: { title: 'Alerts' } },
    { path: '/reports', name: 'reports', component: () => import('./pages/ReportsPage.vue'), meta: { title: 'Reports' } },
    {
      path: '/setup/:tab(discovery|mail|maintenance)?',
      name: 'setup',
      component: () => import('./pages/SetupPage.vue'),
      props: ({ params }) => ({ tab: params.tab ?? '' }),
      meta: { title: 'Setup' },
    },
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
