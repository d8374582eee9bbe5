<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { createInfiniteQuery } from '@tanstack/svelte-query';
  import { askPages, itemsOf } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Timeline from '$lib/components/Timeline.svelte';

  const words = $derived(page.url.searchParams.get('words') ?? '');
  const asked = createInfiniteQuery(() =>
    askPages('/api/v1/records', { params: { query: { words, limit: 40 } } }, (last) => ({
      before: last.id
    }))
  );
</script>

<svelte:head><title>Records – Phylax</title></svelte:head>

<h1>Records</h1>
<label class="sr-only" for="words">Search everything that was done or written</label>
<input
  id="words"
  class="box mt-4 max-w-md"
  placeholder="Search everything that was done or written"
  value={words}
  oninput={(e) => {
    const wanted = encodeURIComponent(e.currentTarget.value);
    void goto(`/records?words=${wanted}`, { replaceState: true, keepFocus: true });
  }}
/>
<div class="mt-2">
  {#if asked.data}<Timeline records={itemsOf(asked.data)} withMachine />{:else}<Failed
      query={asked}
    />{/if}
</div>
{#if asked.hasNextPage}
  <button class="act" disabled={asked.isFetchingNextPage} onclick={() => asked.fetchNextPage()}
    >Show older</button
  >
{/if}
