<script lang="ts">
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
  import { ask, askPages, itemsOf } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { page } from '$app/state';
  import RoundForm from '$lib/components/RoundForm.svelte';

  const number = $derived(Number(page.url.searchParams.get('round') ?? 0));
  // all of them: page by page until there are no more
  const machinesAsked = createInfiniteQuery(() =>
    askPages('/api/v1/machines', { params: { query: { limit: 500 } } }, (last) => ({
      after: last.id
    }))
  );
  const roundAsked = createQuery(() => ({
    ...ask('/api/v1/rounds/{round_id}', { params: { path: { round_id: number } } }),
    enabled: number > 0
  }));
  $effect(() => {
    if (machinesAsked.hasNextPage && !machinesAsked.isFetching) void machinesAsked.fetchNextPage();
  });
  const machines = $derived(
    machinesAsked.data && !machinesAsked.hasNextPage ? itemsOf(machinesAsked.data) : null
  );
  const round = $derived(number ? roundAsked.data : undefined);
</script>

<svelte:head><title>{number ? 'Change' : 'Make'} a round – Phylax</title></svelte:head>

<h1>{number ? 'Change a round' : 'Make a round'}</h1>
{#if machines && (round || !number)}
  <RoundForm {round} {machines} chosenTag={page.url.searchParams.get('machine')} />
{:else}
  <Failed query={roundAsked.error ? roundAsked : machinesAsked} />
{/if}
