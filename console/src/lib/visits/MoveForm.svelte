<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import Outcome from '$lib/components/Outcome.svelte';
  import { PLACES, WHOSE } from './words';

  let { visit }: { visit: Schema['Visit'] } = $props();
  let whose = $state<Schema['Whose']>('ours');
  let whom = $state('');
  let todo = $state('');
  let until = $state('');
  let place = $state<Schema['Visit']['place'] | ''>('');
  let shelf = $state('');
  const moving = new Doing();
  const peopleAsked = createQuery(() => ask('/api/v1/people'));
  const people = $derived((peopleAsked.data ?? []).filter((person) => person.active));

  async function move(event: SubmitEvent) {
    event.preventDefault();
    const isDone = await moving.try<unknown>(
      () =>
        api.POST('/api/v1/visits/{number}/move', {
          params: { path: { number: visit.id } },
          headers: { 'If-Match': `"${visit.version}"` },
          body: {
            whose,
            whom: whose === 'ours' && whom ? Number(whom) : null,
            todo,
            until: until || null,
            place: place || null,
            shelf: place === 'shelf' ? shelf : null
          }
        }),
      'Written down.'
    );
    if (isDone) todo = until = '';
    await refresh('/api/v1/visits/{number}', '/api/v1/visits', '/api/v1/records');
  }
</script>

<form class="mt-2 grid max-w-4xl gap-3 sm:grid-cols-4" onsubmit={move}>
  <label class="field">
    <span>The move is</span>
    <select class="box" bind:value={whose}>
      {#each WHOSE as whoever (whoever)}<option value={whoever}>{whoever}</option>{/each}
    </select>
  </label>
  {#if whose === 'ours'}
    <label class="field">
      <span>by name</span>
      <select class="box" bind:value={whom}>
        <option value="">anybody's</option>
        {#each people as person (person.id)}<option value={String(person.id)}>{person.name}</option>
        {/each}
      </select>
    </label>
  {/if}
  <label class="field sm:col-span-2">
    <span>for what</span>
    <input class="box" bind:value={todo} maxlength="400" placeholder="say yes to the new disk" />
  </label>
  <label class="field">
    <span>until</span><input class="box" type="date" bind:value={until} />
  </label>
  <label class="field">
    <span>The machine goes</span>
    <select class="box" bind:value={place}>
      <option value="">nowhere else</option>
      {#each PLACES as where (where)}<option value={where}
          >{where === 'client' ? 'to the client' : `to the ${where}`}</option
        >{/each}
    </select>
  </label>
  {#if place === 'shelf'}
    <label class="field"><span>Shelf</span><input class="box" bind:value={shelf} /></label>
  {/if}
  <div class="flex items-end">
    <button class="act main" disabled={moving.busy}>Move it on</button>
  </div>
</form>
<Outcome of={moving} />
