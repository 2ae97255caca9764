import '@fontsource/ibm-plex-mono/400.css';
import '@fontsource/ibm-plex-mono/500.css';
import '@fontsource/ibm-plex-sans/400.css';
import '@fontsource/ibm-plex-sans/600.css';
import '@fontsource/source-serif-4/600.css';
import './ledger.css';
import { definePreset } from '@primeuix/themes';
import Aura from '@primeuix/themes/aura';
import { createPinia } from 'pinia';
import PrimeVue from 'primevue/config';
import { createApp } from 'vue';
import App from './App.vue';

const ink = {
  50: '#eef3f4', 100: '#d5e0e3', 200: '#adc3c9', 300: '#84a5ae', 400: '#568290', 500: '#2f6475',
  600: '#1f4e5f', 700: '#193f4d', 800: '#13303b', 900: '#0d2129', 950: '#081519',
};
const preset = definePreset(Aura, { semantic: { primary: ink } });

createApp(App)
  .use(createPinia())
  .use(PrimeVue, { theme: { preset, options: { darkModeSelector: '.night' } } })
  .mount('#app');
