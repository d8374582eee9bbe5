<script lang="ts">
  import { inWords as volumesInWords } from '$lib/machines/volumes';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { useMe } from '$lib/session';
  import { page } from '$app/state';
  import { api, inWords, type RunDetail } from '$lib/api/client';
  import RunProgress from '$lib/components/RunProgress.svelte';
  import RunResult from '$lib/components/RunResult.svelte';
  import RunState from '$lib/components/RunState.svelte';
  import StepList from '$lib/components/StepList.svelte';
  import When from '$lib/components/When.svelte';
  import WhatWasDone from '$lib/upkeep/WhatWasDone.svelte';

  const id = $derived(Number(page.params.id));
  const asked = createQuery(() =>
    ask('/api/v2/runs/{run_id}', { params: { path: { run_id: id } } })
  );
  const run = $derived(asked.data ?? null);
  const me = useMe();
  const role = $derived(me.data?.role ?? 'desk');
  let problem = $state('');
  const ended = $derived(
    run !== null && ['done', 'partly', 'failed', 'missed', 'called off'].includes(run.state)
  );

  const ACTIONS: Record<string, string> = {
    'repair-file-system': 'Repair at the next start',
    'arrange-disks': 'Arrange disks',
    'install-updates': 'Install updates',
    'try-removal': 'Try a removal',
    'remove-program': 'Remove a program',
    'clear-name-cache': 'Clear the name cache',
    restart: 'Restart'
  };
  const titleOf = (of: RunDetail) => (of.action ? ACTIONS[of.action.action] : of.work);

  const load = () => refresh('/api/v2/runs/{run_id}', '/api/v2/runs');

  async function callOff() {
    const { error } = await api.POST('/api/v2/runs/{run_id}/call-off', {
      params: { path: { run_id: id } }
    });
    problem = error ? inWords(error) : '';
    await load();
  }
</script>

<svelte:head
  ><title>{run ? `${run.machine_tag}, run ${run.id}` : 'Run'} – Phylax</title></svelte:head
>

{#if problem}<p class="lossy mb-4" role="alert">{problem}</p>{/if}
{#if !run}<Failed query={asked} />{/if}
{#if run}
  <div class="flex flex-wrap items-start justify-between gap-4">
    <div>
      <h1>{run.routine_name ?? titleOf(run)} on {run.machine_tag}</h1>
      <p>
        {run.client_name}
        <span class="muted">
          · {run.round_name ? `round ${run.round_name}` : `begun by ${run.made_by}`},
          <When at={run.made_at} />
          {run.routine_version ? `· version ${run.routine_version} of the routine` : ''}
          {run.on_bench ? '· on the bench' : ''}
          {volumesInWords(run.volumes) ? `· ${volumesInWords(run.volumes)}` : ''}
        </span>
      </p>
      <p class="mt-1"><RunState state={run.state} /> <span class="muted">{run.reason}</span></p>
    </div>
    <div class="noprint flex gap-2">
      <a class="act" href="/machines/{run.machine_tag}">The machine</a>
      {#if !ended && role !== 'desk' && run.steps.length}
        <button class="act" onclick={callOff}>Cancel run</button>
      {/if}
    </div>
  </div>
  {#if run.steps.length}
    <section class="mt-6" aria-labelledby="steps">
      <h2 id="steps">Steps</h2>
      <StepList {run} onticked={load} mayTick={role !== 'desk'} />
    </section>
  {/if}
  {#if run.progress && !ended}
    <section class="mt-6"><RunProgress {run} brief={run.steps.length > 0} /></section>
  {:else if ended && run.outcomes.length}
    <section class="mt-6"><RunResult {run} /></section>
  {/if}
  <WhatWasDone {run} />
{/if}
