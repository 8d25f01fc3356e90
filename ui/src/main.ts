import '@fontsource-variable/hanken-grotesk'
import '@fontsource/spline-sans-mono/400.css'
import '@fontsource/spline-sans-mono/500.css'
import './theme/tokens.css'
import './theme/components.css'
import { VueQueryPlugin } from '@tanstack/vue-query'
import { createPinia } from 'pinia'
import PrimeVue from 'primevue/config'
import ToastService from 'primevue/toastservice'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'
import { answers } from './state/answers'
import { preset } from './theme/theme'
import { tip } from './theme/tip'

createApp(App)
  .use(createPinia())
  .use(router)
  .use(VueQueryPlugin, { queryClient: answers })
  .use(PrimeVue, {
    locale: { firstDayOfWeek: 1 } as never,
    theme: { preset, options: { darkModeSelector: '[data-theme="night"]', cssLayer: { name: 'primevue' } } },
  })
  .use(ToastService)
  .directive('tip', tip)
  .mount('#app')
