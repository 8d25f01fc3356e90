import { createRouter, createWebHistory } from 'vue-router'

const room = (name: string, load: () => Promise<unknown>) => ({
  path: `/p/:project(\\d+)/${name}`,
  name,
  component: load as never,
})

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'home', component: () => import('./rooms/HomePage.vue') },
    room('intake', () => import('./rooms/intake/IntakeRoom.vue')),
    room('profile', () => import('./rooms/profile/ProfileRoom.vue')),
    room('flatten', () => import('./rooms/flatten/FlattenRoom.vue')),
    room('windows', () => import('./rooms/windows/WindowsRoom.vue')),
    room('walkforward', () => import('./rooms/walkforward/WalkForwardRoom.vue')),
    room('anomalies', () => import('./rooms/anomalies/AnomaliesRoom.vue')),
    room('outlook', () => import('./rooms/outlook/OutlookRoom.vue')),
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})
