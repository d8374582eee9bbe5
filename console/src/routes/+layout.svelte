<script lang="ts">
  import '../app.css';
  import { applyLamp } from '$lib/lamp';
  import type { Snippet } from 'svelte';

  let { children }: { children: Snippet } = $props();

  // the system's own change of day and night
  $effect(() => {
    const system = matchMedia('(prefers-color-scheme: dark)');
    const apply = () => applyLamp(localStorage.getItem('phylax-lamp') ?? 'system');
    system.addEventListener('change', apply);
    return () => system.removeEventListener('change', apply);
  });
</script>

{@render children()}
