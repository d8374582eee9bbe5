import { sveltekit } from '@sveltejs/kit/vite';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [tailwindcss(), sveltekit()],
  build: {
    chunkSizeWarningLimit: 700,
    rolldownOptions: {
      output: {
        // what most pages share comes in one request instead of thirty
        codeSplitting: {
          groups: [
            { name: 'base', minShareCount: 19, priority: 2 },
            { name: 'pages', minShareCount: 14 }
          ]
        }
      }
    }
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8610' } }
});
