<script lang="ts">
  import type { Snippet } from 'svelte';

  interface Props {
    /** What was asked for: shown while it is on its way or where it failed. */
    query: { isPending: boolean; error: Error | null; refetch: () => unknown; isFetching: boolean };
    children?: Snippet;
  }
  let { query, children }: Props = $props();
</script>

{#if query.error}
  <p class="lossy flex flex-wrap items-center gap-3" role="alert">
    {query.error.message}
    <button class="act" disabled={query.isFetching} onclick={() => query.refetch()}
      >Try again</button
    >
  </p>
{:else if query.isPending}
  <p class="muted">
    {#if children}{@render children()}{:else}Asking the service…{/if}
  </p>
{/if}
