import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router.js'
import { vuetify } from './theme.js'

createApp(App).use(router).use(vuetify).mount('#app')
