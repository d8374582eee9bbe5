<script lang="ts">
  import { queries } from '$lib/api/queries';
  import type { Snippet } from 'svelte';

  interface Props {
    /** What was asked for: shown while it is on its way or where it failed. */
    query: { isPending: boolean; error: Error | null; isFetching: boolean };
    children?: Snippet;
  }
  let { query, children }: Props = $props();

  /** What failed together is asked for together. */
  function again() {
    void queries.refetchQueries({ type: 'active', predicate: (q) => q.state.status === 'error' });
  }
</script>

{#if query.error}
  <p class="lossy flex flex-wrap items-center gap-3" role="alert">
    {query.error.message}
    <button class="act" disabled={query.isFetching} onclick={again}>Try again</button>
  </p>
{:else if query.isPending}
  <p class="muted">
    {#if children}{@render children()}{:else}Asking the service…{/if}
  </p>
{/if}
