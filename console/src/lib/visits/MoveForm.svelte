<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { EditForm } from '$lib/api/editing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import EditActions from '$lib/components/EditActions.svelte';
  import { untrack } from 'svelte';
  import { PLACES, TURN_NAMES, TURNS } from './words';

  type Visit = Schema['Visit'];
  let { visit }: { visit: Visit } = $props();
  const fieldsOf = (visit: Visit) => ({
    turn: visit.turn,
    assignee: visit.assignee_id ? String(visit.assignee_id) : '',
    todo: visit.todo,
    follow_up_on: visit.follow_up_on ?? '',
    place: visit.place,
    shelf: visit.shelf
  });
  const form = untrack(
    () =>
      new EditForm({
        key: `turn:${visit.id}`,
        live: () => visit,
        fieldsOf,
        put: (over, touched, headers) => {
          const to = { ...fieldsOf(over), ...touched };
          const moved = touched.place !== undefined || touched.shelf !== undefined;
          return api.POST('/api/v2/visits/{number}/turn', {
            params: { path: { number: over.id } },
            headers,
            body: {
              turn: to.turn,
              assignee_id: to.turn === 'us' && to.assignee ? Number(to.assignee) : null,
              todo: to.todo,
              follow_up_on: to.follow_up_on || null,
              place: moved ? to.place : null,
              shelf: moved && to.place === 'shelf' ? to.shelf : null
            }
          });
        },
        done: 'Saved.'
      })
  );
  const f = form.fields;
  const peopleAsked = createQuery(() => ask('/api/v2/people'));
  const people = $derived((peopleAsked.data ?? []).filter((person) => person.active));

  const refreshed = () => refresh('/api/v2/visits/{number}', '/api/v2/visits', '/api/v2/records');

  async function move(event: SubmitEvent) {
    event.preventDefault();
    await form.save();
    await refreshed();
  }
</script>

<form class="mt-2 grid max-w-4xl gap-3 sm:grid-cols-4" onsubmit={move}>
  <label class="field">
    <span>Who acts next</span>
    <select class="box" bind:value={f.turn}>
      {#each TURNS as turn (turn)}<option value={turn}>{TURN_NAMES[turn]}</option>{/each}
    </select>
  </label>
  {#if f.turn === 'us'}
    <label class="field">
      <span>Assigned to</span>
      <select class="box" bind:value={f.assignee}>
        <option value="">anybody</option>
        {#each people as person (person.id)}<option value={String(person.id)}>{person.name}</option>
        {/each}
      </select>
    </label>
  {/if}
  <label class="field sm:col-span-2">
    <span>What to do</span>
    <input class="box" bind:value={f.todo} maxlength="400" placeholder="approve the new disk" />
  </label>
  <label class="field">
    <span>Follow up on</span><input class="box" type="date" bind:value={f.follow_up_on} />
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
    <EditActions {form} save="Save" onsaved={refreshed} />
  </div>
</form>
