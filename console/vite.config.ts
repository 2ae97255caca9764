import vue from '@vitejs/plugin-vue';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [vue()],
  build: { outDir: 'dist', chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': 'http://127.0.0.1:7171' } },
  test: { environment: 'jsdom' },
});
