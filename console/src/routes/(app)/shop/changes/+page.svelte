<script lang="ts">
  import { createInfiniteQuery } from '@tanstack/svelte-query';
  import { askPages, itemsOf } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';

  const asked = createInfiniteQuery(() =>
    askPages('/api/v2/audit', { params: { query: { limit: 50 } } }, (last) => ({
      before: last.id
    }))
  );
  const changes = $derived(itemsOf(asked.data));
</script>

<svelte:head><title>Changes – Phylax</title></svelte:head>

<h1>What was changed</h1>
{#if asked.data}
  <table class="sheet cards mt-4">
    <caption class="sr-only">Changes of the shop, newest first</caption>
    <thead>
      <tr
        ><th scope="col">change</th><th scope="col">of</th><th scope="col">who</th><th scope="col"
          >when</th
        ></tr
      >
    </thead>
    <tbody>
      {#each changes as change (change.id)}
        <tr>
          <th scope="row">{change.action}</th>
          <td class="break-words">{change.subject}</td>
          <td data-label="who">{change.who}</td>
          <td class="whitespace-nowrap" data-label="when"><When at={change.at} /></td>
        </tr>
      {/each}
    </tbody>
  </table>
  {#if asked.hasNextPage}
    <button
      class="act mt-3"
      disabled={asked.isFetchingNextPage}
      onclick={() => asked.fetchNextPage()}>Show older</button
    >
  {/if}
{:else}
  <div class="mt-4"><Failed query={asked} /></div>
{/if}
