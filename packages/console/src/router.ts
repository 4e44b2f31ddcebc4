import { createRouter, createWebHistory } from 'vue-router'
import { watchForFailures } from './layout/page-failure.js'
import { loadSession, useSession } from './session/useSession.js'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', name: 'sign-in', component: () => import('./session/SignInPage.vue') },
    { path: '/', name: 'home', component: () => import('./targets/HomePage.vue') },
    { path: '/t/:target', name: 'overview', component: () => import('./overview/OverviewPage.vue') },
    { path: '/t/:target/records/:mapping?', name: 'records', component: () => import('./records/RecordsPage.vue') },
    { path: '/t/:target/records/:mapping/:key', name: 'record', component: () => import('./records/RecordPage.vue') },
    { path: '/t/:target/add/:mapping', name: 'add', component: () => import('./records/AddPage.vue') },
    { path: '/t/:target/drills/:transaction?', name: 'drills', component: () => import('./drills/DrillsPage.vue') },
    { path: '/t/:target/change-all/:mapping', name: 'change-all', component: () => import('./jobs/ChangeAllPage.vue') },
    { path: '/t/:target/from-file/:mapping', name: 'from-file', component: () => import('./jobs/FromFilePage.vue') },
    { path: '/t/:target/jobs', name: 'jobs', component: () => import('./jobs/JobsPage.vue') },
    { path: '/t/:target/jobs/:job', name: 'job', component: () => import('./jobs/JobPage.vue') },
    { path: '/t/:target/draft', name: 'draft', component: () => import('./drafts/DraftPage.vue') },
    { path: '/t/:target/waits', name: 'waits', component: () => import('./waits/WaitsPage.vue') },
    { path: '/t/:target/tables', name: 'tables', component: () => import('./tables/TablesPage.vue') },
    {
      path: '/t/:target/transactions/:transaction?',
      name: 'transactions',
      component: () => import('./transactions/TransactionsPage.vue'),
    },
    { path: '/t/:target/code', name: 'code', component: () => import('./code/CodePage.vue') },
    { path: '/t/:target/review', name: 'review', component: () => import('./review/ReviewPage.vue') },
    { path: '/t/:target/book', name: 'book', component: () => import('./book/BookPage.vue') },
    { path: '/t/:target/book/:entry', name: 'entry', component: () => import('./book/EntryPage.vue') },
    // An address that leads nowhere keeps the target and its menu.
    {
      path: '/t/:target/:rest(.*)*',
      name: 'nowhere-here',
      component: () => import('./problems/NowherePage.vue'),
    },
    { path: '/:rest(.*)*', name: 'nowhere', component: () => import('./problems/NowherePage.vue') },
  ],
  // Back leads to the same place in a list.
  scrollBehavior: (_to, _from, saved) => saved ?? { top: 0 },
})

watchForFailures(router)

router.beforeEach(async (to) => {
  if (to.name === 'sign-in') return true
  await loadSession()
  return useSession().session.value ? true : { name: 'sign-in', query: { to: to.fullPath } }
})
