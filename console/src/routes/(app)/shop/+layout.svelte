<script lang="ts">
  import { page } from '$app/state';
  import { useMe } from '$lib/session';
  import type { Snippet } from 'svelte';

  let { children }: { children: Snippet } = $props();
  const me = useMe();
  const PAGES = [
    { href: '/shop', name: 'The shop' },
    { href: '/shop/people', name: 'People' },
    { href: '/shop/access', name: 'Access' },
    { href: '/shop/days', name: 'Closing days' },
    { href: '/shop/calendars', name: 'Calendars' },
    { href: '/shop/notices', name: 'Notices' },
    { href: '/shop/changes', name: 'Changes', owner: true }
  ];
  const shown = $derived(PAGES.filter((p) => !p.owner || me.data?.role === 'owner'));
</script>

<nav aria-label="Shop" class="noprint mb-6 flex flex-wrap gap-x-5 gap-y-1">
  {#each shown as { href, name } (href)}
    <a {href} class="tab" aria-current={page.url.pathname === href ? 'page' : undefined}>{name}</a>
  {/each}
</nav>
{@render children()}

<style>
  .tab {
    padding: 0.25rem 0;
    min-height: 1.75rem;
    color: var(--muted);
    border-bottom: 2px solid transparent;
  }
  .tab:hover {
    color: inherit;
  }
  .tab[aria-current='page'] {
    color: inherit;
    font-weight: 600;
    border-bottom-color: var(--main);
  }
</style>
