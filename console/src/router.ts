import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/servers' },
    { path: '/servers', component: () => import('./pages/ServersPage.vue'), meta: { title: 'Servers' } },
    { path: '/servers/:name', component: () => import('./pages/ServerPage.vue'), props: true, meta: { title: 'Server' } },
    { path: '/agents', component: () => import('./pages/AgentsPage.vue'), meta: { title: 'Agents' } },
    { path: '/agents/:name', component: () => import('./pages/AgentPage.vue'), props: true, meta: { title: 'Agent' } },
    { path: '/rules', component: () => import('./pages/RulesPage.vue'), meta: { title: 'Rules' } },
    { path: '/journal', component: () => import('./pages/JournalPage.vue'), meta: { title: 'Journal' } },
    { path: '/:rest(.*)', component: () => import('./pages/MissingPage.vue'), meta: { title: 'Not found' } },
  ],
})

router.afterEach((to) => {
  document.title = `${String(to.params.name ?? to.meta.title)} · Bouncer`
})
