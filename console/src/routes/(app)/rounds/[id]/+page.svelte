<script lang="ts">
  import { inWords as volumesInWords } from '$lib/machines/volumes';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { useMe } from '$lib/session';
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords, type AgendaLine, type Schema } from '$lib/api/client';
  import Modal from '$lib/components/Modal.svelte';
  import RunState from '$lib/components/RunState.svelte';
  import WeekGrid from '$lib/components/WeekGrid.svelte';
  import When from '$lib/components/When.svelte';
  import { count, daysOf, full, later, stretch, today, momentOf } from '$lib/words';

  const id = $derived(Number(page.params.id));
  const at = $derived({ params: { path: { round_id: id } } });
  const roundAsked = createQuery(() => ask('/api/v2/rounds/{round_id}', at));
  const machinesAsked = createQuery(() => ask('/api/v2/rounds/{round_id}/machines', at));
  const runsAsked = createQuery(() =>
    ask('/api/v2/rounds/{round_id}/runs', {
      params: { path: { round_id: id }, query: { limit: 30 } }
    })
  );
  const agendaAsked = createQuery(() => ask('/api/v2/rounds/agenda'));
  const habitsAsked = createQuery(() => ask('/api/v2/rounds/{round_id}/habits', at));
  const presenceAsked = createQuery(() => ask('/api/v2/rounds/{round_id}/presence', at));
  const round = $derived(roundAsked.data ?? null);
  const machines = $derived(machinesAsked.data ?? []);
  const habits = $derived(habitsAsked.data ?? []);
  const runs = $derived(runsAsked.data ?? []);
  const lines = $derived(
    (agendaAsked.data?.lines ?? []).filter((line: AgendaLine) => line.round_id === id)
  );
  const shares = $derived(presenceAsked.data?.machines ? presenceAsked.data.shares : undefined);
  const me = useMe();
  const role = $derived(me.data?.role ?? 'desk');
  let problem = $state('');
  let ending = $state(false);
  let held = $state<Schema['RoundMachine'] | null>(null);
  let holding = $state(false);
  let until = $state('');
  let word = $state('');
  const mayChange = $derived(role !== 'desk');

  const load = () =>
    refresh(
      '/api/v2/rounds/{round_id}',
      '/api/v2/rounds/{round_id}/machines',
      '/api/v2/rounds/{round_id}/runs',
      '/api/v2/rounds/agenda'
    );

  async function change(part: Partial<Schema['RoundEdit']>) {
    if (!round) return;
    const { error } = await api.PUT('/api/v2/rounds/{round_id}', {
      ...at,
      headers: { 'If-Match': `"${round.version}"` },
      body: { ...round.plan, ...part }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
  async function end() {
    const { error } = await api.DELETE('/api/v2/rounds/{round_id}', at);
    if (error) problem = inWords(error);
    else await goto('/rounds');
  }
  async function postpone(machine: Schema['RoundMachine'], moment: string | null) {
    const { error } = await api.POST('/api/v2/rounds/{round_id}/postpone', {
      ...at,
      body: { machine_id: machine.machine_id, until: moment, comment: word }
    });
    problem = error ? inWords(error) : '';
    holding = false;
    await load();
  }
  function choose(machine: Schema['RoundMachine']) {
    held = machine;
    until = `${later(today(), 7)}T18:00`;
    word = '';
    holding = true;
  }
</script>

<svelte:head><title>{round?.name ?? 'Round'} – Phylax</title></svelte:head>

{#if problem}<p class="lossy mb-4" role="alert">{problem}</p>{/if}
{#if !round}<Failed query={roundAsked} />{/if}
{#if round}
  <div class="flex flex-wrap items-start justify-between gap-4">
    <div>
      <h1>{round.name}</h1>
      <p>
        {round.routine_name}, {round.how_often}
        <span class="muted"
          >· {count(round.machines, 'machine')}{volumesInWords(round.plan.volumes)
            ? ` · ${volumesInWords(round.plan.volumes)}`
            : ''}</span
        >
      </p>
      {#if round.plan.paused}<p class="lookhere">Paused until somebody resumes it.</p>
      {:else if round.plan.paused_until && round.plan.paused_until > today()}<p class="lookhere">
          Paused until {round.plan.paused_until}.
        </p>{/if}
    </div>
    {#if mayChange}
      <div class="noprint flex flex-wrap gap-2">
        <button
          class="act"
          onclick={() => change({ paused: !round?.plan.paused, paused_until: null })}
          >{round.plan.paused ? 'Go on' : 'Pause'}</button
        >
        <a class="act" href="/rounds/new?round={round.id}">Change</a>
        <button class="act" onclick={() => (ending = true)}>End</button>
      </div>
    {/if}
  </div>

  {#each habits as habit (habit.machine_id)}
    <p class="lookhere mt-3">Rarely on: {habit.sentence}.</p>
  {/each}

  <div class="mt-6 grid gap-8 lg:grid-cols-[minmax(0,2fr)_minmax(0,1fr)]">
    <section>
      <h2>The week by hour</h2>
      <WeekGrid {lines} {shares} />
    </section>
    <section>
      <h2>Next dates</h2>
      <ol class="ruled mt-2">
        {#each round.next_dates as next (next)}
          <li class="py-1.5">{full(next).replace(/:\d\d$/, '')}</li>
        {:else}
          <li class="muted py-1.5">No dates ahead.</li>
        {/each}
      </ol>
    </section>
  </div>

  <section class="mt-8">
    <h2>Its machines</h2>
    <div class="mt-2 overflow-x-auto">
      <table class="sheet" data-testid="round-machines">
        <caption class="sr-only">Machines and runs of this round</caption>
        <thead
          ><tr
            ><th scope="col">machine</th><th scope="col">client</th><th scope="col">next</th><th
              scope="col">takes about</th
            ><th scope="col"><span class="sr-only">change</span></th></tr
          ></thead
        >
        <tbody>
          {#each machines as machine (machine.machine_id)}
            <tr>
              <td
                ><a class="anchor font-semibold" href="/machines/{machine.machine_tag}"
                  >{machine.machine_tag}</a
                ></td
              >
              <td>{machine.client_name}</td>
              <td>
                {#if machine.waiting_run_id}<a class="anchor" href="/runs/{machine.waiting_run_id}"
                    >waiting now</a
                  >,
                {/if}<When at={machine.next_at} />
                {#if machine.postponed}<span class="lookhere">{machine.postponed}</span>{/if}
              </td>
              <td>{stretch(Math.round(86_400 * daysOf(machine.expected_duration)))}</td>
              <td class="text-right whitespace-nowrap">
                {#if mayChange}
                  <button class="act" onclick={() => choose(machine)}>Skip or postpone…</button>
                {/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  </section>

  <section class="mt-8">
    <h2>What it did</h2>
    <div class="mt-2 overflow-x-auto">
      <table class="sheet">
        <caption class="sr-only">Machines and runs of this round</caption>
        <thead
          ><tr
            ><th scope="col">machine</th><th scope="col">was due</th><th scope="col">state</th><th
              scope="col">began</th
            ><th scope="col">why</th></tr
          ></thead
        >
        <tbody>
          {#each runs as run (run.id)}
            <tr>
              <td><a class="anchor" href="/runs/{run.id}">{run.machine_tag}</a></td>
              <td class="whitespace-nowrap"><When at={run.occurs_at} /></td>
              <td><RunState state={run.state} /></td>
              <td class="whitespace-nowrap"><When at={run.started_at} /></td>
              <td>{run.reason}</td>
            </tr>
          {:else}
            <tr
              ><td colspan="5" class="muted"
                >{#if runsAsked.data}It has not run yet.{:else}<Failed query={runsAsked} />{/if}</td
              ></tr
            >
          {/each}
        </tbody>
      </table>
    </div>
  </section>
{/if}

<Modal bind:open={ending} title="End {round?.name}?">
  <p>The round stops. Its waiting runs are called off; what it did stays in the record.</p>
  <div class="mt-4 flex gap-2">
    <button class="act loss" onclick={end}>End the round</button>
    <button class="act" onclick={() => (ending = false)}>Keep it</button>
  </div>
</Modal>
<Modal bind:open={holding} title="Skip or postpone on {held?.machine_tag}">
  <label class="field"
    ><span>Why</span><input class="box" bind:value={word} maxlength="500" /></label
  >
  <label class="field mt-3"
    ><span>Postpone until</span><input
      class="box w-60"
      type="datetime-local"
      bind:value={until}
    /></label
  >
  <div class="mt-4 flex flex-wrap gap-2">
    <button
      class="act main"
      disabled={!until}
      onclick={() => held && postpone(held, momentOf(until))}>Postpone</button
    >
    <button class="act" onclick={() => held && postpone(held, null)}>Skip this time</button>
    <button class="act" onclick={() => (holding = false)}>Leave as it is</button>
  </div>
</Modal>
