<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { page } from '$app/state';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import NoteForm from '$lib/components/NoteForm.svelte';
  import Timeline from '$lib/components/Timeline.svelte';
  import When from '$lib/components/When.svelte';
  import Made from '$lib/reports/Made.svelte';
  import HandOver from '$lib/visits/HandOver.svelte';
  import AdviceGiven from '$lib/upkeep/AdviceGiven.svelte';
  import Parts from '$lib/visits/Parts.svelte';
  import Ready from '$lib/visits/Ready.svelte';
  import SealedNotes from '$lib/visits/SealedNotes.svelte';
  import { count } from '$lib/words';
  import MoveForm from '$lib/visits/MoveForm.svelte';
  import { day, waitingFor, whereItIs } from '$lib/visits/words';

  const number = $derived(Number(page.params.id) || 0);
  const asked = createQuery(() => ask('/api/v2/visits/{number}', { params: { path: { number } } }));
  const visit = $derived(asked.data ?? null);
  const recordsAsked = createQuery(() =>
    ask('/api/v2/records', { params: { query: { visit: number, limit: 100 } } })
  );
  // the list that is worked through at the bench, for whoever goes on with it
  const runsAsked = createQuery(() => ({
    ...ask('/api/v2/runs', { params: { query: { machine: visit?.machine_tag, limit: 10 } } }),
    enabled: visit !== null && !visit.closed_at
  }));
  const benched = $derived(
    (runsAsked.data ?? []).find(
      (run) => run.routine_name && ['waiting', 'offered', 'running'].includes(run.state)
    )
  );
  const facts = $derived(
    visit
      ? (
          [
            ['The client says', visit.reported_problem],
            ['Condition', visit.condition],
            ['Accessories', visit.accessories],
            ['Due', day(visit.due_on)],
            ['Call before spending more than', visit.approval_limit ?? ''],
            ['Loan device', visit.loaner],
            ['Guaranteed until', day(visit.guaranteed_until)]
          ] as [string, string | number][]
        ).filter(([, value]) => value !== '')
      : []
  );
</script>

<svelte:head><title>Visit {number} – Phylax</title></svelte:head>

{#if visit}
  <div class="flex flex-wrap items-center justify-between gap-4">
    <div>
      <h1>Visit {visit.id}: {visit.machine_tag}</h1>
      <p>
        <a class="anchor" href="/machines/{visit.machine_tag}">{visit.machine_tag}</a> of
        <a class="anchor" href="/clients/{visit.client_id}">{visit.client_name}</a>, {visit.kind},
        <span class="muted">opened <When at={visit.opened_at} /> by {visit.opened_by}</span>
      </p>
    </div>
    <span class="noprint flex gap-4">
      <a class="anchor" href="/visits/{visit.id}/slip">Claim slip</a>
      <a class="anchor" href="/visits">All visits</a>
    </span>
  </div>
  {#if visit.closed_at}
    <p class="mt-2" data-testid="ended">
      Handed over <strong>{visit.outcome}</strong>
      <When at={visit.closed_at} /> by {visit.closed_by}.
    </p>
  {:else}
    <p class="mt-2" data-testid="turn">
      <strong>{waitingFor(visit)}</strong>{visit.todo ? `: ${visit.todo}` : ''}{visit.follow_up_on
        ? `, follow up ${day(visit.follow_up_on)}`
        : ''}{#if visit.overdue}<span class="lossy">, overdue</span>{/if}. The machine is {whereItIs(
        visit
      )}.
    </p>
    {#if visit.ready_at}
      <p data-testid="ready">
        Ready to collect since <When at={visit.ready_at} />{visit.ready_mail
          ? `; its client was told by mail to ${visit.ready_mail}`
          : ''}{visit.reminded ? ` and reminded ${count(visit.reminded, 'time')}` : ''}.
      </p>
    {/if}
  {/if}
  <dl class="mt-4 grid max-w-4xl gap-x-4 gap-y-1 sm:grid-cols-[14rem_1fr]">
    {#each facts as [name, value] (name)}
      <dt class="muted">{name}</dt>
      <dd class="break-words whitespace-pre-wrap">{value}</dd>
    {/each}
    {#if visit.earlier_visit_id}
      <dt class="muted">Earlier visit</dt>
      <dd>
        <a class="anchor" href="/visits/{visit.earlier_visit_id}">visit {visit.earlier_visit_id}</a>
      </dd>
    {/if}
  </dl>
  {#if !visit.closed_at}
    <section class="noprint mt-8" aria-labelledby="next">
      <h2 id="next">Next step</h2>
      {#key visit.id}<MoveForm {visit} />{/key}
    </section>
  {/if}
  {#if benched}
    <section class="noprint mt-8" aria-labelledby="bench">
      <h2 id="bench">On the bench</h2>
      <p>
        <a class="anchor" href="/runs/{benched.id}">{benched.routine_name ?? benched.work}</a>
        <span class="muted">
          begun by {benched.made_by}
          <When at={benched.made_at} />{benched.awaits_person ? '; the next step is by hand' : ''}
        </span>
      </p>
    </section>
  {/if}
  <section class="mt-8" aria-labelledby="parts">
    <h2 id="parts">Parts</h2>
    {#key visit.id}<Parts visit={visit.id} isOpen={!visit.closed_at} />{/key}
  </section>
  {#key visit.id}<SealedNotes {visit} />{/key}
  <section class="mt-8" aria-labelledby="advice">
    <h2 id="advice"><Term of="advice">Advice</Term></h2>
    {#key visit.id}<AdviceGiven machine={{ tag: visit.machine_tag }} />{/key}
  </section>
  <section class="mt-8" aria-labelledby="meanwhile">
    <h2 id="meanwhile">What was done meanwhile</h2>
    {#if !visit.closed_at}
      <NoteForm machine={{ id: visit.machine_id, tag: visit.machine_tag }} />
    {/if}
    {#if recordsAsked.data}
      <Timeline records={recordsAsked.data} />
    {:else}<Failed query={recordsAsked} />{/if}
  </section>
  {#key visit.id}<Made of={{ visit: visit.id }} over="visit={visit.id}" />{/key}
  {#if !visit.closed_at}
    {#if !visit.ready_at}
      <section class="noprint mt-8" aria-labelledby="ready">
        <h2 id="ready"><Term of="ready">When it can be fetched</Term></h2>
        {#key visit.id}<Ready {visit} />{/key}
      </section>
    {/if}
    <section class="noprint mt-8" aria-labelledby="over">
      <h2 id="over">Hand it over</h2>
      {#key visit.id}<HandOver {visit} />{/key}
    </section>
  {/if}
{:else}<Failed query={asked} />{/if}
