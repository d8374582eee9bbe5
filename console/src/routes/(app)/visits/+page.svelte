<script lang="ts">
  import Parts from '$lib/visits/Parts.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';
  import { day, whereItIs, TURN_NAMES, TURNS } from '$lib/visits/words';
  import { count } from '$lib/words';
  import Plus from '@lucide/svelte/icons/plus';

  const asked = createQuery(() => ask('/api/v2/visits', { params: { query: { open: true } } }));
  const visits = $derived(asked.data ?? []);
  const groups = $derived(
    TURNS.map((turn) => ({
      turn,
      visits: visits.filter((visit) => visit.turn === turn)
    })).filter((group) => group.visits.length)
  );
  const overdue = $derived(visits.filter((visit) => visit.overdue).length);
</script>

<svelte:head><title>Visits – Phylax</title></svelte:head>

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Visits</h1>
  <a class="act main" href="/visits/new"><Plus aria-hidden="true" />Check in a machine</a>
</div>
{#if asked.data}
  <p class="muted mt-2" role="status">
    {visits.length
      ? `${count(visits.length, 'open visit')}${overdue ? `, ${overdue} overdue` : ''}.`
      : 'No visit is open.'}
  </p>
  {#each groups as group (group.turn)}
    <section class="mt-6" aria-labelledby="waiting-{group.turn}">
      <h2 id="waiting-{group.turn}">Waiting for {TURN_NAMES[group.turn]}</h2>
      <table class="sheet cards board">
        <caption class="sr-only">Visits waiting for {TURN_NAMES[group.turn]}</caption>
        <thead>
          <tr>
            <th scope="col" style:width="4rem">visit</th><th scope="col" style:width="16rem"
              >machine</th
            ><th scope="col">next step</th>
            <th scope="col" style:width="10rem">due</th><th scope="col" style:width="9rem"
              >location</th
            ><th scope="col" style:width="9rem">since</th>
          </tr>
        </thead>
        <tbody>
          {#each group.visits as visit (visit.id)}
            <tr>
              <th scope="row"><a class="anchor" href="/visits/{visit.id}">{visit.id}</a></th>
              <td data-label="machine">
                <a class="anchor" href="/visits/{visit.id}">{visit.machine_tag}</a>
                <span class="muted block text-sm">{visit.client_name}</span>
              </td>
              <td data-label="next step">
                {visit.todo || visit.reported_problem.split('\n')[0]?.slice(0, 120) || 'look at it'}
                {#if visit.assignee_name}<span class="muted block text-sm"
                    >{visit.assignee_name}</span
                  >{/if}
              </td>
              <td data-label="due" class:lossy={visit.overdue}>
                {day(visit.follow_up_on ?? visit.due_on) || '–'}{visit.overdue ? ', overdue' : ''}
              </td>
              <td data-label="location">{whereItIs(visit)}</td>
              <td data-label="since"><When at={visit.opened_at} /></td>
            </tr>
          {/each}
        </tbody>
      </table>
    </section>
  {/each}
  <section class="mt-8" aria-labelledby="parts">
    <h2 id="parts">Parts on order</h2>
    <Parts />
  </section>
{:else}<Failed query={asked} />{/if}

<style>
  @media (min-width: 641px) {
    .board {
      table-layout: fixed;
    }
  }
</style>
