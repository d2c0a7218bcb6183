import './state/theme'
import '@fontsource-variable/archivo/index.css'
import '@fontsource/ibm-plex-mono/400.css'
import '@fontsource/ibm-plex-mono/500.css'
import './style.css'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import App from './App.vue'
import { vTyping } from './bench/typing'
import { KINDS, STAGES } from './kinds/all'
import { register } from './kinds/registry'
import Service from './shelf/Service.vue'
import Shelf from './shelf/Shelf.vue'
import JobRoom from './shell/JobRoom.vue'

register({ kinds: KINDS, stages: STAGES })

const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: Shelf },
    { path: '/service', component: Service },
    { path: '/jobs/:id(\\d+)', component: JobRoom, props: (r) => ({ id: Number(r.params.id) }) },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

createApp(App).use(createPinia()).use(router).directive('typing', vTyping).mount('#app')
