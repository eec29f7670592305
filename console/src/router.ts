import { createRouter, createWebHistory } from 'vue-router'
import { pageFailed, pageLoaded } from './use/pageload'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: () => import('./pages/OverviewPage.vue'), meta: { title: 'Overview' } },
    { path: '/health', component: () => import('./pages/HealthPage.vue'), meta: { title: 'Health' } },
    { path: '/incidents/:id', component: () => import('./pages/IncidentPage.vue'), props: true, meta: { title: 'Incident' } },
    { path: '/try', component: () => import('./pages/TryPage.vue'), meta: { title: 'Try' } },
    { path: '/servers', component: () => import('./pages/ServersPage.vue'), meta: { title: 'Servers' } },
    { path: '/servers/:name', component: () => import('./pages/ServerPage.vue'), props: true, meta: { title: 'Server' } },
    { path: '/agents', component: () => import('./pages/AgentsPage.vue'), meta: { title: 'Agents' } },
    { path: '/agents/:name', component: () => import('./pages/AgentPage.vue'), props: true, meta: { title: 'Agent' } },
    { path: '/rules', component: () => import('./pages/RulesPage.vue'), meta: { title: 'Rules' } },
    { path: '/reach', component: () => import('./pages/ReachPage.vue'), meta: { title: 'Reach' } },
    { path: '/held', component: () => import('./pages/HeldPage.vue'), meta: { title: 'Held calls' } },
    { path: '/budgets', component: () => import('./pages/BudgetsPage.vue'), meta: { title: 'Budgets' } },
    { path: '/review', component: () => import('./pages/ReviewPage.vue'), meta: { title: 'Review' } },
    { path: '/labels', component: () => import('./pages/LabelsPage.vue'), meta: { title: 'Labels' } },
    { path: '/statistics', component: () => import('./pages/StatisticsPage.vue'), meta: { title: 'Statistics' } },
    { path: '/journal', component: () => import('./pages/JournalPage.vue'), meta: { title: 'Journal' } },
    { path: '/secrets', component: () => import('./pages/SecretsPage.vue'), meta: { title: 'Secrets' } },
    { path: '/sign-ins', component: () => import('./pages/SignInsPage.vue'), meta: { title: 'Sign-ins' } },
    { path: '/connect/:server', component: () => import('./pages/ConnectPage.vue'), props: true, meta: { title: 'Connect' } },
    { path: '/consent/:id', component: () => import('./pages/ConsentPage.vue'), props: true, meta: { title: 'A program wants in' } },
    { path: '/people', component: () => import('./pages/PeoplePage.vue'), meta: { title: 'People' } },
    { path: '/notices', component: () => import('./pages/NoticesPage.vue'), meta: { title: 'Notices' } },
    { path: '/changes', component: () => import('./pages/ChangesPage.vue'), meta: { title: 'Changes' } },
    { path: '/service', component: () => import('./pages/ServicePage.vue'), meta: { title: 'Service' } },
    { path: '/sign-in', redirect: (to) => ({ path: '/', query: to.query }), meta: { title: 'Sign in' } },
    { path: '/:rest(.*)', component: () => import('./pages/MissingPage.vue'), meta: { title: 'Not found' } },
  ],
})

router.onError((_, to) => pageFailed(to.fullPath, sessionStorage, (path) => location.assign(path)))
router.afterEach((to) => {
  pageLoaded(sessionStorage)
  document.title = `${String(to.params.name ?? to.meta.title)} · Bouncer`
})
