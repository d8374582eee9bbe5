<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { EditForm } from '$lib/api/editing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import EditActions from '$lib/components/EditActions.svelte';
  import { untrack } from 'svelte';
  import { PLACES, WHOSE } from './words';

  type Visit = Schema['Visit'];
  let { visit }: { visit: Visit } = $props();
  const fieldsOf = (of: Visit) => ({
    whose: of.whose,
    whom: of.whom ? String(of.whom) : '',
    todo: of.todo,
    until: of.until ?? '',
    place: of.place,
    shelf: of.shelf
  });
  const form = untrack(
    () =>
      new EditForm({
        key: `move:${visit.id}`,
        live: () => visit,
        fieldsOf,
        put: (over, touched, headers) => {
          const to = { ...fieldsOf(over), ...touched };
          const goes = touched.place !== undefined || touched.shelf !== undefined;
          return api.POST('/api/v1/visits/{number}/move', {
            params: { path: { number: over.id } },
            headers,
            body: {
              whose: to.whose,
              whom: to.whose === 'ours' && to.whom ? Number(to.whom) : null,
              todo: to.todo,
              until: to.until || null,
              place: goes ? to.place : null,
              shelf: goes && to.place === 'shelf' ? to.shelf : null
            }
          });
        },
        done: 'Written down.'
      })
  );
  const f = form.fields;
  const peopleAsked = createQuery(() => ask('/api/v1/people'));
  const people = $derived((peopleAsked.data ?? []).filter((person) => person.active));

  const refreshed = () => refresh('/api/v1/visits/{number}', '/api/v1/visits', '/api/v1/records');

  async function move(event: SubmitEvent) {
    event.preventDefault();
    await form.save();
    await refreshed();
  }
</script>

<form class="mt-2 grid max-w-4xl gap-3 sm:grid-cols-4" onsubmit={move}>
  <label class="field">
    <span>The move is</span>
    <select class="box" bind:value={f.whose}>
      {#each WHOSE as whoever (whoever)}<option value={whoever}>{whoever}</option>{/each}
    </select>
  </label>
  {#if f.whose === 'ours'}
    <label class="field">
      <span>by name</span>
      <select class="box" bind:value={f.whom}>
        <option value="">anybody's</option>
        {#each people as person (person.id)}<option value={String(person.id)}>{person.name}</option>
        {/each}
      </select>
    </label>
  {/if}
  <label class="field sm:col-span-2">
    <span>for what</span>
    <input class="box" bind:value={f.todo} maxlength="400" placeholder="say yes to the new disk" />
  </label>
  <label class="field">
    <span>until</span><input class="box" type="date" bind:value={f.until} />
  </label>
  <label class="field">
    <span>Location</span>
    <select class="box" bind:value={f.place}>
      {#each PLACES as where (where)}<option value={where}
          >{where === 'client' ? "at the client's" : `on the ${where}`}</option
        >{/each}
    </select>
  </label>
  {#if f.place === 'shelf'}
    <label class="field"><span>Shelf</span><input class="box" bind:value={f.shelf} /></label>
  {/if}
  <div class="sm:col-span-4">
    <EditActions {form} save="Move it on" onsaved={refreshed} />
  </div>
</form>
