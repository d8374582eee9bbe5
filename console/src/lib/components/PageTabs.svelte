<script lang="ts">
  import { page } from '$app/state';

  interface Props {
    /** What the pages are of, for readers. */
    of: string;
    pages: { href: string; name: string }[];
  }
  let { of, pages }: Props = $props();
</script>

<nav aria-label={of} class="noprint mb-6 flex flex-wrap gap-x-5 gap-y-1">
  {#each pages as { href, name } (href)}
    <a {href} class="tab" aria-current={page.url.pathname === href ? 'page' : undefined}>{name}</a>
  {/each}
</nav>

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
