import { svelte } from '@sveltejs/vite-plugin-svelte'
import tailwindcss from '@tailwindcss/vite'
import { defineConfig } from 'vite'

// Nothing is inlined: the content security policy that merismosd sends allows only files of its own.
export default defineConfig({
  plugins: [svelte(), tailwindcss()],
  worker: { format: 'es' },
  build: { assetsInlineLimit: 0, modulePreload: { polyfill: false } },
  server: { proxy: { '/api': 'http://127.0.0.1:7480' } },
})
