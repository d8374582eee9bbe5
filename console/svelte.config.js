import adapter from '@sveltejs/adapter-static';
import { vitePreprocess } from '@sveltejs/vite-plugin-svelte';

/** The console is one page, built into the service, which serves it for every address. */
export default {
  preprocess: vitePreprocess(),
  kit: {
    adapter: adapter({
      pages: '../src/phylax/service/console',
      assets: '../src/phylax/service/console',
      fallback: 'index.html',
      precompress: true
    }),
    version: { pollInterval: 0 }
  }
};
