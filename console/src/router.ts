import { createRouter, createWebHistory } from 'vue-router'

import { api } from './api'
import { useSession } from './parts/session'
import Floor from './floor/Floor.vue'

declare module 'vue-router' {
  interface RouteMeta {
    open?: boolean
    // whole: it fills the screen, without the list of places
    whole?: boolean
  }
}

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'floor', component: Floor },
    { path: '/sign-in', name: 'sign-in', component: () => import('./entry/SignIn.vue'), meta: { open: true } },
    { path: '/setup', name: 'setup', component: () => import('./entry/SetUp.vue'), meta: { open: true } },
    { path: '/bays/:bay', name: 'bay', component: () => import('./bay/Bay.vue'), props: true },
    { path: '/bays/:bay/manual', name: 'manual', component: () => import('./bay/Manual.vue'), props: true },
    { path: '/bench', name: 'bench', component: () => import('./bench/Bench.vue') },
    {
      path: '/bench/instruments/:name',
      name: 'instrument',
      component: () => import('./bench/Instrument.vue'),
      props: true,
    },
    { path: '/procedures', name: 'procedures', component: () => import('./procedures/Procedures.vue') },
    {
      path: '/procedures/:name',
      name: 'procedure',
      component: () => import('./procedures/Procedure.vue'),
      props: true,
    },
    { path: '/nameplates', name: 'nameplates', component: () => import('./nameplates/Nameplates.vue') },
    { path: '/line', name: 'line', component: () => import('./line/Line.vue') },
    { path: '/operate', name: 'operate', component: () => import('./operate/Places.vue') },
    {
      path: '/operate/:bay',
      name: 'place',
      component: () => import('./operate/Operate.vue'),
      props: true,
      meta: { whole: true },
    },
    {
      path: '/together/:bays',
      name: 'together',
      component: () => import('./operate/Together.vue'),
      props: true,
      meta: { whole: true },
    },
    { path: '/lots', name: 'lots', component: () => import('./lots/Lots.vue') },
    { path: '/lots/:lot', name: 'lot', component: () => import('./lots/Lot.vue'), props: true },
    { path: '/units/:serial', name: 'unit', component: () => import('./lots/Unit.vue'), props: true },
    { path: '/office', name: 'office', component: () => import('./office/Office.vue') },
    { path: '/overlay', name: 'overlay', component: () => import('./overlay/Overlay.vue') },
    { path: '/cells', name: 'cells', component: () => import('./cells/Cells.vue') },
    { path: '/runs', name: 'runs', component: () => import('./runs/Runs.vue') },
    { path: '/runs/:run', name: 'run', component: () => import('./runs/Run.vue'), props: true },
    { path: '/:rest(.*)*', name: 'nowhere', component: () => import('./parts/Nowhere.vue') },
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
