<script lang="ts">
  import PageTabs from '$lib/components/PageTabs.svelte';
  import type { Snippet } from 'svelte';

  let { children }: { children: Snippet } = $props();
  const PAGES = [
    { href: '/rules', name: 'Files' },
    { href: '/rules/programs', name: 'Programs' },
    { href: '/rules/questions', name: 'Questions' }
  ];
</script>

<PageTabs of="Rules" pages={PAGES} />
{@render children()}
