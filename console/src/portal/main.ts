import { createApp } from 'vue'
import PortalApp from './PortalApp.vue'
import '@fontsource-variable/source-sans-3'
import '../look.css'
import './portal.css'

createApp(PortalApp).mount('#app')
