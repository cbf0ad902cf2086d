import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 1200 },
  // For working on the console next to a running service.
  server: { proxy: { '/api': process.env.PINGO_URL ?? 'http://127.0.0.1:7464' } },
});
