import { createRouter, createWebHistory } from 'vue-router'

import { api } from './api'
import { useSession } from './composables/session'
import Floor from './views/Floor.vue'

declare module 'vue-router' {
  interface RouteMeta {
    open?: boolean
  }
}

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'floor', component: Floor },
    { path: '/sign-in', name: 'sign-in', component: () => import('./views/SignIn.vue'), meta: { open: true } },
    { path: '/setup', name: 'setup', component: () => import('./views/SetUp.vue'), meta: { open: true } },
    { path: '/bays/:bay', name: 'bay', component: () => import('./views/Bay.vue'), props: true },
    { path: '/bays/:bay/manual', name: 'manual', component: () => import('./views/Manual.vue'), props: true },
    { path: '/bench', name: 'bench', component: () => import('./views/Bench.vue') },
    {
      path: '/bench/instruments/:name',
      name: 'instrument',
      component: () => import('./views/Instrument.vue'),
      props: true,
    },
    { path: '/procedures', name: 'procedures', component: () => import('./views/Procedures.vue') },
    { path: '/procedures/:name', name: 'procedure', component: () => import('./views/Procedure.vue'), props: true },
    { path: '/nameplates', name: 'nameplates', component: () => import('./views/Nameplates.vue') },
    { path: '/line', name: 'line', component: () => import('./views/Line.vue') },
    { path: '/overlay', name: 'overlay', component: () => import('./views/Overlay.vue') },
    { path: '/cells', name: 'cells', component: () => import('./views/Cells.vue') },
    { path: '/runs', name: 'runs', component: () => import('./views/Runs.vue') },
    { path: '/runs/:run', name: 'run', component: () => import('./views/Run.vue'), props: true },
    { path: '/:rest(.*)*', name: 'nowhere', component: () => import('./views/Nowhere.vue') },
  ],
})

router.beforeEach(async (to) => {
  if (to.meta.open) return true
  const session = useSession()
  if (session.account || (await session.load())) return true
  const health = await api.health().catch(() => null)
  if (health && !health.setUp) return { name: 'setup' }
  return { name: 'sign-in', query: { next: to.fullPath } }
})
