<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { handedOver } from '$lib/machines/chosen';
  import RoundForm from '$lib/rounds/RoundForm.svelte';
  import { page } from '$app/state';

  const number = $derived(Number(page.url.searchParams.get('round') ?? 0));
  const tag = $derived(page.url.searchParams.get('machine'));
  const chosen = $derived(page.url.searchParams.has('chosen') ? handedOver() : []);
  const roundAsked = createQuery(() => ({
    ...ask('/api/v2/rounds/{round_id}', { params: { path: { round_id: number } } }),
    enabled: number > 0
  }));
  const machineAsked = createQuery(() => ({
    ...ask('/api/v2/machines/{machine}', { params: { path: { machine: tag ?? '' } } }),
    enabled: tag !== null
  }));
  const round = $derived(number ? roundAsked.data : undefined);
  const asked = $derived(number ? roundAsked : tag ? machineAsked : null);
</script>

<svelte:head><title>{number ? 'Change' : 'Make'} a round – Phylax</title></svelte:head>

<h1>{number ? 'Change' : 'Make'} a <Term of="round" /></h1>
{#if asked && !asked.data}
  <Failed query={asked} />
{:else}
  {#key `${number} ${tag}`}
    <RoundForm {round} chosen={tag && machineAsked.data ? [machineAsked.data.id] : chosen} />
  {/key}
{/if}
