import 'bootstrap/dist/css/bootstrap.min.css'
import 'bootstrap-vue-next/dist/bootstrap-vue-next.css'
import '@fontsource-variable/inter/wght.css'
import './styles.css'
import { createBootstrap } from 'bootstrap-vue-next'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'

createApp(App).use(createBootstrap()).use(router).mount('#app')
