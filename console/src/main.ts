import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'
import '@fontsource-variable/source-sans-3'
import './look.css'

createApp(App).use(createPinia()).use(router).mount('#app')
