<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { page } from '$app/state';
  import type { Machine } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import ClientForm from '$lib/machines/ClientForm.svelte';
  import Forgetting from '$lib/machines/Forgetting.svelte';
  import Retiring from '$lib/machines/Retiring.svelte';
  import Made from '$lib/reports/Made.svelte';
  import { useMay } from '$lib/session';
  import When from '$lib/components/When.svelte';

  const id = $derived(Number(page.params.id) || 0);
  const may = useMay();
  const asked = createQuery(() =>
    ask('/api/v2/clients/{client_id}', { params: { path: { client_id: id } } })
  );
  const client = $derived(asked.data ?? null);
  const machinesAsked = createQuery(() =>
    ask('/api/v2/machines', { params: { query: { client_id: id, limit: 500 } } })
  );
  // as JSON, though the address also answers with CSV
  const machines = $derived((machinesAsked.data ?? []) as Machine[]);
  const labels = $derived(machines.map((machine) => machine.id).join());
</script>

<svelte:head><title>{client?.name ?? 'Client'} – Phylax</title></svelte:head>

{#if client}
  <div class="flex flex-wrap items-center justify-between gap-4">
    <h1>{client.name}</h1>
    <a class="anchor" href="/clients">All clients</a>
  </div>
  {#if client.forgotten_at}
    <p class="mt-2">Nothing is known of them any more but figures.</p>
  {:else if client.retired_at && may.work}<Retiring {client} />{:else if client.retired_at}<p
      class="mt-2"
    >
      Retired <When at={client.retired_at} />.
    </p>{/if}
  {#if !client.forgotten_at}{#key client.id}<ClientForm {client} />{/key}{/if}

  <section class="mt-8" aria-labelledby="machines">
    <div class="flex flex-wrap items-center justify-between gap-2">
      <h2 id="machines">Machines</h2>
      {#if machines.length}
        <span class="flex gap-4">
          <a class="anchor" href="/machines?client={client.id}">Show them in the list</a>
          <a class="anchor" href="/machines/labels?of={labels}">Labels to print</a>
        </span>
      {/if}
    </div>
    {#if machinesAsked.data}
      <ul class="ruled mt-2" data-testid="machines">
        {#each machines as machine (machine.id)}
          <li class="flex flex-wrap justify-between gap-x-4 py-2">
            <span>
              <a class="anchor" href="/machines/{machine.tag}">{machine.tag}</a>
              <span class="muted">
                {[machine.make, machine.model].filter(Boolean).join(' ') || machine.system}
              </span>
            </span>
            <span class="muted text-sm">
              {[machine.used_for, machine.used_by].filter(Boolean).join('; ')}
            </span>
          </li>
        {:else}<li class="muted py-2">None.</li>{/each}
      </ul>
    {:else}<Failed query={machinesAsked} />{/if}
  </section>
  {#key client.id}<Made of={{ client_id: client.id }} over="client={client.id}" />{/key}
  {#if may.own}
    <section class="noprint mt-8" aria-labelledby="take-out">
      <h2 id="take-out">Everything about them</h2>
      <p class="muted mb-2 text-sm">
        All that the shop has on this client and their machines, and nothing of others, as a ZIP to
        be handed out.
      </p>
      <a class="act" href="/api/v2/clients/{client.id}/archive" download>Take it out</a>
    </section>
  {/if}
  {#if may.own && client.retired_at}
    <section class="noprint mt-8" aria-labelledby="forget">
      <h2 id="forget">Forgetting</h2>
      <p class="muted mb-2 text-sm">Who left can be forgotten; figures stay, without names.</p>
      <Forgetting {client} />
    </section>
  {/if}
  {#if may.work && !client.retired_at}
    <section class="noprint mt-8" aria-labelledby="care">
      <h2 id="care">When they leave</h2>
      <p class="muted mb-2 text-sm">All their machines leave with them; their records stay.</p>
      <Retiring {client} />
    </section>
  {/if}
{:else}<Failed query={asked} />{/if}
