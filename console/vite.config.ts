import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

// Built into the server, which serves it; `npm run dev` speaks to a server named by LIGARE_SERVER.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: '../service/web/dist', emptyOutDir: true },
  server: { proxy: { '/v1': { target: process.env['LIGARE_SERVER'] ?? 'http://127.0.0.1:7400' } } },
})
