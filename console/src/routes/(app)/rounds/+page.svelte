<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { inWords as volumesInWords } from '$lib/machines/volumes';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { useMe } from '$lib/session';
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords, type AgendaLine, type Round } from '$lib/api/client';
  import AgendaList from '$lib/components/AgendaList.svelte';
  import MissedRuns from '$lib/components/MissedRuns.svelte';
  import RunProgress from '$lib/components/RunProgress.svelte';
  import WaitingListings from '$lib/components/WaitingListings.svelte';
  import WeekGrid from '$lib/components/WeekGrid.svelte';
  import When from '$lib/components/When.svelte';
  import { count, dayStart, later, today } from '$lib/words';
  import ListChecks from '@lucide/svelte/icons/list-checks';
  import Plus from '@lucide/svelte/icons/plus';

  const VIEWS = [
    ['agenda', 'Agenda'],
    ['week', 'Week by hour'],
    ['rounds', 'The rounds'],
    ['missed', 'Missed'],
    ['yes', 'Needs approval']
  ] as const;
  const DAYS = 28;

  const me = useMe();
  const role = $derived(me.data?.role ?? 'desk');
  /** From yesterday on, whose windows may still be open; a page that stays open over night asks for
   * the new day. */
  function span() {
    return { since: dayStart(later(today(), -1)), until: dayStart(later(today(), DAYS)) };
  }
  const roundsAsked = createQuery(() =>
    ask('/api/v2/rounds', { params: { query: { limit: 500 } } })
  );
  const agendaAsked = createQuery(() => ({
    queryKey: ['/api/v2/rounds/agenda', { days: DAYS }] as const,
    queryFn: (context: { signal: AbortSignal }) =>
      ask('/api/v2/rounds/agenda', { params: { query: span() } }).queryFn(context)
  }));
  const todayAsked = createQuery(() => ask('/api/v2/today'));
  const rounds = $derived(
    (roundsAsked.data ?? []).toSorted((a, b) => (a.next_at ?? '~').localeCompare(b.next_at ?? '~'))
  );
  const lines = $derived<AgendaLine[] | null>(agendaAsked.data?.lines ?? null);
  const fromToday = $derived(lines?.filter((line) => line.opens_at >= dayStart(today())) ?? []);
  const running = $derived((todayAsked.data?.running ?? []).filter((run) => !run.awaits_person));
  let problem = $state('');
  const view = $derived(page.url.searchParams.get('show') ?? 'agenda');
  const only = $derived(Number(page.url.searchParams.get('round') ?? 0));
  const ofWeek = $derived((lines ?? []).filter((line) => !only || line.round_id === only));

  const presenceAsked = createQuery(() => ({
    ...ask('/api/v2/rounds/{round_id}/presence', { params: { path: { round_id: only } } }),
    enabled: view === 'week' && only > 0
  }));
  const shares = $derived(presenceAsked.data?.machines ? presenceAsked.data.shares : undefined);

  function go(change: Record<string, string | null>) {
    const next = new URLSearchParams(page.url.searchParams);
    for (const [name, value] of Object.entries(change)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    void goto(`/rounds?${next}`, { replaceState: true, keepFocus: true, noScroll: true });
  }

  async function pause(round: Round) {
    const { error } = await api.PUT('/api/v2/rounds/{round_id}', {
      params: { path: { round_id: round.id } },
      headers: { 'If-Match': `"${round.version}"` },
      body: { ...round.plan, paused: !round.plan.paused }
    });
    problem = error ? inWords(error) : '';
    await refresh('/api/v2/rounds', '/api/v2/rounds/agenda');
  }
</script>

<svelte:head><title>Rounds – Phylax</title></svelte:head>

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Rounds</h1>
  <div class="flex flex-wrap gap-2">
    <a class="act" href="/routines"><ListChecks aria-hidden="true" />Routines</a>
    {#if role !== 'desk'}
      <a class="act main" href="/rounds/new"><Plus aria-hidden="true" />Make a round</a>
    {/if}
  </div>
</div>
<div class="mt-4 flex flex-wrap gap-2">
  {#each VIEWS as [key, name] (key)}
    <button
      class="act"
      aria-pressed={view === key}
      onclick={() => go({ show: key === 'agenda' ? null : key })}>{name}</button
    >
  {/each}
</div>
{#if problem}<p class="lossy mt-4" role="alert">{problem}</p>{/if}
{#if !lines}<Failed query={agendaAsked} />{:else if roundsAsked.error}<Failed
    query={roundsAsked}
  />{/if}

{#if running.length && (view === 'agenda' || view === 'week')}
  <section class="mt-5" aria-labelledby="now">
    <h2 id="now">Runs now</h2>
    <ul class="ruled mt-1">
      {#each running.slice(0, 12) as run (run.id)}
        <li class="grid gap-x-4 py-2 sm:grid-cols-[14rem_minmax(0,1fr)]">
          <span>
            <a class="anchor font-semibold" href="/runs/{run.id}">{run.machine_tag}</a>
            <span class="muted text-sm">{run.round_name ?? run.made_by}</span>
          </span>
          <RunProgress {run} brief />
        </li>
      {/each}
    </ul>
  </section>
{/if}

{#if view === 'agenda' && lines && !todayAsked.isPending}
  {#if roundsAsked.data && !rounds.length}
    <p class="mt-6">
      No rounds yet.
      {#if role !== 'desk'}<a class="anchor" href="/rounds/new">Make the first one</a>{/if}
    </p>
  {:else}
    <AgendaList lines={fromToday} />
  {/if}
{:else if view === 'week' && lines}
  <label class="field mt-4">
    <span>Which round</span>
    <select
      class="box w-80"
      value={String(only)}
      onchange={(e) => go({ round: e.currentTarget.value === '0' ? null : e.currentTarget.value })}
    >
      <option value="0">all of them</option>
      {#each rounds as round (round.id)}<option value={String(round.id)}>{round.name}</option
        >{/each}
    </select>
  </label>
  {#if !only}
    <p class="muted mt-1 text-sm">Choose one round to see when its machines are usually on.</p>
  {/if}
  <WeekGrid lines={ofWeek} {shares} />
{:else if view === 'rounds'}
  <div class="mt-4 overflow-x-auto">
    <table class="sheet">
      <caption class="sr-only">Rounds</caption>
      <thead>
        <tr
          ><th scope="col"><Term of="round" /></th><th scope="col"><Term of="routine" /></th><th
            scope="col">how often</th
          ><th scope="col">machines</th><th scope="col">next</th><th scope="col"
            ><span class="sr-only">change</span></th
          ></tr
        >
      </thead>
      <tbody>
        {#each rounds as round (round.id)}
          <tr>
            <td><a class="anchor font-semibold" href="/rounds/{round.id}">{round.name}</a></td>
            <td>{round.routine_name}</td>
            <td>{round.how_often}</td>
            <td
              >{count(round.machines, 'machine')}<span class="muted block text-sm"
                >{volumesInWords(round.plan.volumes)}</span
              ></td
            >
            <td class="whitespace-nowrap">
              {#if round.plan.paused}<span class="lookhere">paused</span>{:else}<When
                  at={round.next_at}
                />{/if}
            </td>
            <td>
              {#if role !== 'desk'}
                <button class="act" onclick={() => pause(round)}
                  >{round.plan.paused ? 'Go on' : 'Pause'}</button
                >
              {/if}
            </td>
          </tr>
        {:else}
          <tr
            ><td colspan="6"
              >{#if roundsAsked.data}No rounds yet. Make the first one.{:else}<Failed
                  query={roundsAsked}
                />{/if}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
  </div>
{:else if view === 'missed'}
  <MissedRuns mayChange={role !== 'desk'} />
{:else if view === 'yes'}
  <WaitingListings mayChange={role !== 'desk'} />
{/if}
