<script lang="ts">
  import { createInfiniteQuery } from '@tanstack/svelte-query';
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords } from '$lib/api/client';
  import { askPages, itemsOf, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { clientNamed } from '$lib/machines/edit';

  const params = $derived(page.url.searchParams);
  const words = $derived(params.get('words') ?? '');
  const retired = $derived(params.has('retired'));
  const asked = createInfiniteQuery(() =>
    askPages<'/api/v2/clients'>(
      '/api/v2/clients',
      { params: { query: { words: words.trim() || undefined, retired, limit: 100 } } },
      (last) => ({ after: last.id })
    )
  );
  const clients = $derived(itemsOf(asked.data));

  function go(change: Record<string, string | null>) {
    const next = new URLSearchParams(params);
    for (const [name, value] of Object.entries(change)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    void goto(`/clients?${next}`, { replaceState: true, keepFocus: true, noScroll: true });
  }

  let name = $state('');
  let problem = $state('');
  async function add(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST('/api/v2/clients', {
      body: clientNamed(name)
    });
    problem = error ? inWords(error) : '';
    if (!data) return;
    name = '';
    await refresh('/api/v2/clients');
    await goto(`/clients/${data.id}`);
  }
</script>

<svelte:head><title>Clients – Phylax</title></svelte:head>

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Clients</h1>
  <span class="flex gap-4">
    <a class="anchor" href="/clients/import">Import a list</a>
    <a class="anchor" href="/machines">All machines</a>
  </span>
</div>
<div class="mt-4 flex flex-wrap items-end gap-3">
  <label class="field">
    <span>Name, contact, mail or phone</span>
    <input class="box w-64" value={words} oninput={(e) => go({ words: e.currentTarget.value })} />
  </label>
  <button class="act" aria-pressed={retired} onclick={() => go({ retired: retired ? null : 'yes' })}
    >retired</button
  >
  <form class="ml-auto flex items-end gap-2" onsubmit={add}>
    <label class="field">
      <span>A new client</span>
      <input class="box w-56" bind:value={name} required maxlength="120" placeholder="Name" />
    </label>
    <button class="act">Add</button>
  </form>
</div>
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
{#if asked.data}
  <p class="muted mt-3" role="status">
    {clients.length ? '' : words ? 'No client has all of these words.' : 'None yet.'}
  </p>
  {#if clients.length}
    <table class="sheet cards" data-testid="clients">
      <caption class="sr-only">Clients</caption>
      <thead>
        <tr>
          <th scope="col">client</th><th scope="col">contact</th><th scope="col">best reached</th>
          <th scope="col">agreed</th><th scope="col" class="right">machines</th>
        </tr>
      </thead>
      <tbody>
        {#each clients as client (client.id)}
          <tr>
            <th scope="row"><a class="anchor" href="/clients/{client.id}">{client.name}</a></th>
            <td data-label="contact">{client.contact}</td>
            <td data-label="best reached">
              {[
                client.contact_by,
                client.contact_by === 'mail' ? client.mail : client.phone || client.mail
              ]
                .filter(Boolean)
                .join(', ')}
              {#if client.hours}<span class="muted block text-sm">{client.hours}</span>{/if}
            </td>
            <td data-label="agreed">{client.agreements}</td>
            <td class="right" data-label="machines">
              <a class="anchor" href="/machines?client={client.id}">{client.machines}</a>
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
  {#if asked.hasNextPage}
    <button class="act mt-3" onclick={() => asked.fetchNextPage()}>More</button>
  {/if}
{:else}<Failed query={asked} />{/if}
