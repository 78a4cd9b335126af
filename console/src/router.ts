import { createRouter, createWebHistory } from 'vue-router'
import { useOperator } from './operator'
import { titleOf } from './rooms'

// toHash waits until the part of the page is drawn that a link names.
async function toHash(hash: string) {
  for (let n = 0; n < 40 && !document.querySelector(hash); n++) await new Promise((done) => setTimeout(done, 25))
  return { el: hash, top: 12 }
}

export const router = createRouter({
  history: createWebHistory(import.meta.env.BASE_URL),
  scrollBehavior: (to, from, saved) => saved ?? (to.hash ? toHash(to.hash) : to.name === from.name ? {} : { top: 0 }),
  routes: [
    { path: '/', name: 'overview', component: () => import('./pages/OverviewPage.vue') },
    { path: '/sessions', name: 'sessions', component: () => import('./pages/SessionsPage.vue') },
    { path: '/transfers', name: 'transfers', component: () => import('./pages/TransfersPage.vue') },
    { path: '/traffic', name: 'traffic', component: () => import('./pages/TrafficPage.vue') },
    { path: '/accounts/:account?', name: 'accounts', component: () => import('./pages/AccountsPage.vue') },
    { path: '/groups/:group?', name: 'groups', component: () => import('./pages/GroupsPage.vue') },
    { path: '/passes', name: 'passes', component: () => import('./pages/PassesPage.vue') },
    { path: '/shelf', name: 'shelf', component: () => import('./pages/ShelfPage.vue') },
    { path: '/sources', name: 'sources', component: () => import('./pages/SourcesPage.vue') },
    { path: '/notices/:notice?', name: 'notices', component: () => import('./pages/NoticesPage.vue') },
    { path: '/stores', name: 'stores', component: () => import('./pages/StoresPage.vue') },
    { path: '/gate', name: 'gate', component: () => import('./pages/GatePage.vue') },
    { path: '/reports/:report?', name: 'reports', component: () => import('./pages/ReportsPage.vue') },
    { path: '/audit', name: 'audit', component: () => import('./pages/AuditPage.vue') },
    { path: '/set-up', name: 'set-up', component: () => import('./pages/StepsPage.vue') },
    { path: '/check-up', name: 'check-up', component: () => import('./pages/CheckupPage.vue') },
    { path: '/history', name: 'history', component: () => import('./pages/HistoryPage.vue') },
    { path: '/operators', name: 'operators', component: () => import('./pages/OperatorsPage.vue') },
    { path: '/handover/:account', name: 'handover', component: () => import('./pages/HandoverPage.vue') },
    { path: '/settings/:listener?', name: 'settings', component: () => import('./pages/SettingsPage.vue') },
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignInPage.vue'), meta: { open: true } },
    { path: '/password', name: 'password', component: () => import('./pages/PasswordPage.vue'), meta: { open: true } },
    { path: '/setup', name: 'setup', component: () => import('./pages/SetUpPage.vue'), meta: { open: true } },
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})

// Every page but the open ones needs an operator; where the reader wanted to go is kept.
router.beforeEach(async (to) => {
  if (to.meta.open) return true
  if (await useOperator().known()) return true
  return { name: 'sign-in', query: to.fullPath === '/' ? {} : { to: to.fullPath } }
})
router.afterEach((to) => (document.title = titleOf(to.name, to.params)))
