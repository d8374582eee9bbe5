<script lang="ts">
  import PageTabs from '$lib/components/PageTabs.svelte';
  import { useMe } from '$lib/session';
  import type { Snippet } from 'svelte';

  let { children }: { children: Snippet } = $props();
  const me = useMe();
  const PAGES = [
    { href: '/shop', name: 'The shop' },
    { href: '/shop/people', name: 'People' },
    { href: '/shop/you', name: 'You' },
    { href: '/shop/access', name: 'Access' },
    { href: '/shop/days', name: 'Closing days' },
    { href: '/shop/calendars', name: 'Calendars' },
    { href: '/shop/letterhead', name: 'Letterhead' },
    { href: '/shop/notices', name: 'Notices' },
    { href: '/shop/changes', name: 'Changes', owner: true }
  ];
  const shown = $derived(PAGES.filter((p) => !p.owner || me.data?.role === 'owner'));
</script>

<PageTabs of="Shop" pages={shown} />
{@render children()}
