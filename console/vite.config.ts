import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react()],
  build: {
    outDir: 'dist',
    emptyOutDir: false,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 2000,
    rollupOptions: {
      input: { index: 'index.html', 'sign-in': 'sign-in.html', 'your-signature': 'your-signature.html' },
    },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8425' } },
})
