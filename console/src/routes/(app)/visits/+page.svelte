<script lang="ts">
  import Parts from '$lib/visits/Parts.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';
  import { day, whereItIs, whoseMove, WHOSE } from '$lib/visits/words';
  import { count } from '$lib/words';
  import Plus from '@lucide/svelte/icons/plus';

  const asked = createQuery(() => ask('/api/v1/visits', { params: { query: { open: true } } }));
  const visits = $derived(asked.data ?? []);
  const groups = $derived(
    WHOSE.map((whose) => ({
      whose,
      visits: visits.filter((visit) => visit.whose === whose)
    })).filter((group) => group.visits.length)
  );
  const overdue = $derived(visits.filter((visit) => visit.overdue).length);
</script>

<svelte:head><title>Visits – Phylax</title></svelte:head>

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Visits</h1>
  <a class="act main" href="/visits/new"><Plus aria-hidden="true" />Take a machine in</a>
</div>
{#if asked.data}
  <p class="muted mt-2" role="status">
    {visits.length
      ? `${count(visits.length, 'machine')} in hand${overdue ? `, ${overdue} overdue` : ''}.`
      : 'No machine is in hand.'}
  </p>
  {#each groups as group (group.whose)}
    <section class="mt-6" aria-labelledby="of-{group.whose.replace(/\W/g, '')}">
      <h2 id="of-{group.whose.replace(/\W/g, '')}">The move is {group.whose}</h2>
      <table class="sheet cards board">
        <caption class="sr-only">Visits where the move is {group.whose}</caption>
        <thead>
          <tr>
            <th scope="col" style:width="4rem">visit</th><th scope="col" style:width="16rem"
              >machine</th
            ><th scope="col">what is next</th>
            <th scope="col" style:width="10rem">until</th><th scope="col" style:width="9rem"
              >where it is</th
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
              <td data-label="what is next">
                {visit.todo || visit.said.split('\n')[0]?.slice(0, 120) || 'look at it'}
                {#if visit.whom_name}<span class="muted block text-sm">{whoseMove(visit)} move</span
                  >{/if}
              </td>
              <td data-label="until" class:lossy={visit.overdue}>
                {day(visit.until ?? visit.wanted_by) || '–'}{visit.overdue ? ', overdue' : ''}
              </td>
              <td data-label="where it is">{whereItIs(visit)}</td>
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
