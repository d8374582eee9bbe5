<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import { SvelteMap } from 'svelte/reactivity';

  /** Clients whose machines are all taken: chosen ones, and some more to choose. */
  let { chosen = $bindable() }: { chosen: number[] } = $props();

  const MOST = 12;
  let words = $state('');
  const names = new SvelteMap<number, string>();
  const asked = createQuery(() => ({
    ...ask('/api/v2/clients', { params: { query: { words: words.trim(), limit: MOST + 1 } } }),
    placeholderData: keepPreviousData
  }));
  const offered = $derived((asked.data ?? []).slice(0, MOST));
  $effect(() => offered.forEach((client) => names.set(client.id, client.name)));
  const unknown = $derived(chosen.find((id) => !names.has(id)));
  const nameAsked = createQuery(() => ({
    ...ask('/api/v2/clients/{client_id}', { params: { path: { client_id: unknown ?? 0 } } }),
    enabled: unknown !== undefined && asked.isFetched
  }));
  $effect(() => {
    if (nameAsked.data) names.set(nameAsked.data.id, nameAsked.data.name);
  });
  const shown = $derived([
    ...chosen.map((id) => ({ id, name: names.get(id) ?? `client ${id}` })),
    ...offered.filter((client) => !chosen.includes(client.id))
  ]);
</script>

<div class="mt-1 flex flex-wrap gap-2">
  {#if (asked.data?.length ?? 0) > MOST || words}
    <input
      class="box w-56"
      placeholder="Find a client"
      aria-label="Find a client"
      bind:value={words}
    />
  {/if}
  {#each shown as client (client.id)}
    <button
      type="button"
      class="act"
      aria-pressed={chosen.includes(client.id)}
      onclick={() =>
        (chosen = chosen.includes(client.id)
          ? chosen.filter((id) => id !== client.id)
          : [...chosen, client.id])}>{client.name}</button
    >
  {/each}
</div>
