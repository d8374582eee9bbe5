<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import { api, inWords } from '$lib/api/client';
  import ClientBox from './ClientBox.svelte';
  import { today } from '$lib/words';

  let { mayChange }: { mayChange: boolean } = $props();
  const daysAsked = createQuery(() => ask('/api/v1/closing-days'));
  const days = $derived(daysAsked.data ?? []);
  let name = $state('');
  let first = $state(today());
  let last = $state(today());
  let client = $state('');
  let problem = $state('');

  const load = () => refresh('/api/v1/closing-days');

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const { error } = await api.POST('/api/v1/closing-days', {
      body: { name, first, last, client_id: client ? Number(client) : null }
    });
    problem = error ? inWords(error) : '';
    if (!error) name = '';
    await load();
  }
  async function remove(id: number) {
    const { error } = await api.DELETE('/api/v1/closing-days/{closing_id}', {
      params: { path: { closing_id: id } }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
</script>

<section aria-labelledby="closing">
  <h1 id="closing">Closing days</h1>
  <p class="muted text-sm">Rounds move to the next open day, or leave these out, as each says.</p>
  <ul class="ruled mt-2" data-testid="closing-days">
    {#each days as one (one.id)}
      <li class="flex items-center justify-between gap-2 py-2">
        <span
          >{one.name}
          <span class="muted text-sm"
            >{one.client_name ?? 'the shop'}, {one.first}{one.last === one.first
              ? ''
              : ` to ${one.last}`}</span
          ></span
        >
        {#if mayChange}<button class="act" onclick={() => remove(one.id)}>Remove</button>{/if}
      </li>
    {:else}
      <li class="muted py-2">None yet.</li>
    {/each}
  </ul>
  {#if mayChange}
    <form class="mt-2 flex flex-wrap items-end gap-2" onsubmit={add}>
      <label class="field"
        ><span>Name</span><input
          class="box w-40"
          bind:value={name}
          required
          maxlength="120"
        /></label
      >
      <label class="field"
        ><span>First day</span><input class="box" type="date" bind:value={first} required /></label
      >
      <label class="field"
        ><span>Last day</span><input
          class="box"
          type="date"
          bind:value={last}
          min={first}
          required
        /></label
      >
      <ClientBox label="Who" bind:value={client} first={[{ value: '', label: 'the shop' }]} />
      <button class="act">Close</button>
    </form>
  {/if}
  {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
</section>
