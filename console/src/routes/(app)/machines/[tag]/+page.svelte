<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { page } from '$app/state';
  import { createQuery } from '@tanstack/svelte-query';
  import { inWords, type Ledger, type Trend } from '$lib/api/client';
  import { startRun } from '$lib/api/runs';
  import { CallError, ask, queries, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Later from '$lib/components/Later.svelte';
  import Near from '$lib/components/Near.svelte';
  import { whenFree } from '$lib/later.svelte';
  import Retiring from '$lib/machines/Retiring.svelte';
  import WhatItIs from '$lib/machines/WhatItIs.svelte';
  import MachineRecord from '$lib/machines/MachineRecord.svelte';
  import { askRecords } from '$lib/machines/records';
  import MachineRounds from '$lib/machines/MachineRounds.svelte';
  import MachineVolumes from '$lib/machines/MachineVolumes.svelte';
  import Held from '$lib/components/Held.svelte';
  import Cleanup from '$lib/components/Cleanup.svelte';
  import Protections from '$lib/components/Protections.svelte';
  import RoutineStart from '$lib/components/RoutineStart.svelte';
  import Prospects from '$lib/components/Prospects.svelte';
  import RunProgress from '$lib/components/RunProgress.svelte';
  import RunResult from '$lib/components/RunResult.svelte';
  import Threshold from '$lib/components/Threshold.svelte';
  import When from '$lib/components/When.svelte';
  import Checks from '$lib/components/Checks.svelte';
  import AdviceGiven from '$lib/upkeep/AdviceGiven.svelte';
  import BuiltIn from '$lib/upkeep/BuiltIn.svelte';
  import Disks from '$lib/upkeep/Disks.svelte';
  import Installed from '$lib/upkeep/Installed.svelte';
  import RestartIt from '$lib/upkeep/RestartIt.svelte';
  import Updates from '$lib/upkeep/Updates.svelte';
  import StartupPrograms from '$lib/tuning/StartupPrograms.svelte';
  import OpenVisit from '$lib/visits/OpenVisit.svelte';
  import Made from '$lib/reports/Made.svelte';
  import { useMay } from '$lib/session';
  import { dayStart, later, monthBack, size } from '$lib/words';
  import { allBut, listed } from '$lib/machines/volumes';
  import { untrack } from 'svelte';
  import { SvelteSet } from 'svelte/reactivity';
  import ScanSearch from '@lucide/svelte/icons/scan-search';

  const SPANS = [
    { days: 7, name: '7 days' },
    { days: 30, name: '30 days' },
    { days: 90, name: '90 days' },
    { days: 365, name: 'a year' },
    { days: 3650, name: 'all' }
  ];

  /** Fetched beside the page, which does not wait for it. */
  const chart = import('$lib/trend/TrendChart.svelte');
  const tag = $derived(page.params.tag ?? '');
  const isNone = (error: Error | null) => error instanceof CallError && error.status === 404;
  const may = useMay();
  const ofMachine = $derived({ params: { path: { machine: tag } } });
  const machineAsked = createQuery(() => ask('/api/v2/machines/{machine}', ofMachine));
  const machine = $derived(machineAsked.data ?? null);

  // the run that is shown: one that is open, else the last that did something
  const runsAsked = createQuery(() =>
    ask('/api/v2/runs', { params: { query: { machine: tag, limit: 12 } } })
  );
  const shownRun = $derived.by(() => {
    const runs = runsAsked.data ?? [];
    const open = runs.find((r) => ['offered', 'running', 'waiting'].includes(r.state));
    return open ?? runs.find((r) => !['survey', 'look at settings'].includes(r.work)) ?? runs[0];
  });
  const runAsked = createQuery(() => ({
    ...ask('/api/v2/runs/{run_id}', { params: { path: { run_id: shownRun?.id ?? 0 } } }),
    enabled: shownRun !== undefined
  }));
  const run = $derived(shownRun && runAsked.data ? runAsked.data : null);

  // while a survey runs, what it has found so far, and until the newest whole one has come as well:
  // what somebody has opened in it does not vanish between the two
  const looking = $derived(
    run?.state === 'running' && run.work === 'survey' ? (run.survey_id ?? null) : null
  );
  let looked = $state(0);
  $effect(() => {
    void tag;
    looked = 0;
  });
  $effect(() => {
    if (looking !== null) looked = looking;
  });
  const soFarAsked = createQuery(() => ({
    ...ask('/api/v2/surveys/{survey_id}/ledger', {
      params: { path: { survey_id: looking ?? looked } }
    }),
    enabled: looking !== null
  }));
  const ledgerAsked = createQuery(() => ask('/api/v2/machines/{machine}/ledger', ofMachine));
  const ledger = $derived.by(() => {
    const whole = ledgerAsked.data;
    const soFar = soFarAsked.data;
    const isComing =
      looking !== null ||
      (looked > 0 &&
        (whole?.survey_id ?? 0) < looked &&
        run?.work === 'survey' &&
        run.state === 'done');
    if (!isComing || !soFar?.lines.length) return whole;
    return whole ? together(whole, soFar) : soFar;
  });
  // who reads the last survey while another goes on reads on: each line is new where it stands
  const fresh = $derived(new Set(soFarAsked.data?.lines.map((line) => line.category)));
  function together(whole: Ledger, soFar: Ledger): Ledger {
    const known = new Set(whole.lines.map((line) => line.category));
    const lines = whole.lines.map(
      (line) => soFar.lines.find((newer) => newer.category === line.category) ?? line
    );
    const more = soFar.lines.filter((line) => !known.has(line.category));
    return { ...soFar, volumes: whole.volumes, lines: [...lines, ...more] };
  }
  const ledgerFailed = $derived(ledgerAsked.error !== null && !isNone(ledgerAsked.error));

  // parts further down are drawn when somebody comes near; what they show is there by then
  $effect(() => {
    const of = ofMachine;
    const machine = of.params.path.machine;
    return whenFree(() => {
      for (const path of ['programs', 'changes', 'rounds'] as const)
        void queries.prefetchQuery(ask(`/api/v2/machines/{machine}/${path}`, of));
      void queries.prefetchInfiniteQuery(askRecords(machine));
    });
  });

  let mount = $state<string | undefined>();
  let days = $state(90);
  let from = $state('');
  let until = $state('');
  const HOUR = 3_600_000;
  const span = $derived({
    since: from
      ? dayStart(from)
      : new Date(Math.floor(Date.now() / HOUR) * HOUR - days * 24 * HOUR).toISOString(),
    until: until ? dayStart(later(until, 1)) : undefined
  });
  const trendAsked = createQuery(() => ({
    ...ask('/api/v2/machines/{machine}/trend', {
      params: { path: { machine: tag }, query: { mount, ...span, points: 400 } }
    }),
    // the drawing stays until the next one is there, but never another machine's
    placeholderData: (
      before: Trend | undefined,
      query: { queryKey: readonly unknown[] } | undefined
    ) =>
      (query?.queryKey[1] as { path?: { machine?: string } } | undefined)?.path?.machine === tag
        ? before
        : undefined
  }));
  const trend = $derived(trendAsked.data ?? null);
  $effect(() => {
    void tag;
    mount = undefined;
  });

  let problem = $state('');

  let workHeight = $state(0);
  let workTallest = $state(0);
  $effect(() => {
    workTallest = Math.max(
      untrack(() => workTallest),
      workHeight
    );
  });
  $effect(() => {
    void tag;
    workTallest = 0;
  });

  // volumes that somebody unticks are left out of the next survey or cleaning
  const leftOut = new SvelteSet<string>();
  $effect(() => {
    void tag;
    leftOut.clear();
  });
  const all = $derived(machine?.volumes.every((volume) => leftOut.has(volume.mount)) ?? false);

  const isOver = (state: string) =>
    ['done', 'partly', 'failed', 'missed', 'called off'].includes(state);
  const ended = $derived(run !== null && isOver(run.state));
  const busy = $derived(run !== null && !ended);
  // a list that waits for a person keeps nobody from looking or cleaning
  const working = $derived(busy && !run?.awaits_person);
  const names = $derived(
    Object.fromEntries((ledger?.lines ?? []).map((line) => [line.category, line.name]))
  );
  const started = () => refresh('/api/v2/runs', '/api/v2/runs/{run_id}');

  async function look() {
    if (!machine) return;
    const { error } = await startRun({
      machine_id: machine.id,
      work: 'survey',
      volumes: allBut(leftOut)
    });
    problem = error ? inWords(error) : '';
    await started();
  }
</script>

<svelte:head><title>{tag} – Phylax</title></svelte:head>

{#if machineAsked.error && !machine}
  <h1 class="mb-4">{tag}</h1>
  <Failed query={machineAsked} />
{:else if machine}
  <div class="flex flex-wrap items-start justify-between gap-4">
    <div>
      <h1>{machine.tag}</h1>
      <p>
        <a class="anchor" href="/clients/{machine.client_id}">{machine.client_name}</a>
        <span class="muted">
          · {[machine.make, machine.model].filter(Boolean).join(' ') || 'make and model not noted'} ·
          {machine.system}{machine.memory ? ` · ${size(machine.memory)} memory` : ''}
        </span>
      </p>
      <p class="muted text-sm">
        {#if machine.enrolled}last contact <When
            at={machine.seen_at}
          />{:else if !machine.retired_at}no agent enrolled yet{/if}
        {#if machine.note}{machine.retired_at ? '' : '· '}{machine.note}{/if}
      </p>
    </div>
    <div class="noprint flex flex-wrap gap-2">
      {#if may.work && !machine.retired_at}
        <RoutineStart machineIds={[machine.id]} goThere />
        <button class="act" onclick={look} disabled={working || !machine.enrolled || all}>
          <ScanSearch aria-hidden="true" />Survey it{leftOut.size
            ? `, not ${listed([...leftOut])}`
            : ''}
        </button>
      {/if}
    </div>
  </div>
  {#if machine.retired_at && may.work}<Retiring {machine} />{:else if machine.retired_at}<p
      class="mt-2"
    >
      Retired <When at={machine.retired_at} />.
    </p>{/if}
  <OpenVisit {machine} />
  {#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}

  <MachineVolumes {machine} {ledger} {leftOut} />

  <section class="mt-8" aria-labelledby="trend">
    <div class="flex flex-wrap items-center justify-between gap-2">
      <h2 id="trend">Trend</h2>
      <div class="noprint flex flex-wrap gap-2">
        {#if machine.volumes.length > 1}
          {#each machine.volumes as volume (volume.id)}
            <button
              class="act"
              aria-pressed={trend?.mount === volume.mount}
              onclick={() => (mount = volume.mount)}><code>{volume.mount}</code></button
            >
          {/each}
        {/if}
        {#each SPANS as span (span.days)}
          <button
            class="act"
            aria-pressed={days === span.days && !from && !until}
            onclick={() => {
              days = span.days;
              from = until = '';
            }}>{span.name}</button
          >
        {/each}
        <label class="flex items-center gap-1 text-sm"
          >from <input class="box" type="date" bind:value={from} /></label
        >
        <label class="flex items-center gap-1 text-sm"
          >to <input class="box" type="date" bind:value={until} /></label
        >
      </div>
    </div>
    <Later>
      {#if trend}
        {#await chart}<div class="h-80"></div>{:then { default: TrendChart }}<TrendChart
            {trend}
          />{/await}
        <Later><Prospects {machine} outlook={trend.outlook ?? null} /></Later
        >{:else if trendAsked.isPending || !isNone(trendAsked.error)}<div class="min-h-80">
          <Failed query={trendAsked} />
        </div>{:else}<p class="muted">No readings yet.</p>{/if}
      <Threshold
        {machine}
        isOwner={may.own}
        onchanged={() =>
          void refresh('/api/v2/machines/{machine}', '/api/v2/machines/{machine}/trend')}
      />
      {#snippet before()}<div class="min-h-80"></div>{/snippet}
    </Later>
  </section>

  {#if shownRun}
    <section class="mt-8" aria-labelledby="work">
      <h2 id="work" tabindex="-1" class="mb-2">
        {isOver((run ?? shownRun).state) ? 'Last run' : 'Running now'}
        {#if shownRun.routine_name}<a
            class="anchor text-base font-normal"
            href="/runs/{shownRun.id}">{shownRun.routine_name}</a
          >{/if}
      </h2>
      <!-- as high as it ever was, so that what is read below stays where it is -->
      <div bind:clientHeight={workHeight} style:min-height="max(4.5rem, {workTallest}px)">
        {#if !run}
          <Failed query={runAsked} />
        {:else if busy && run.awaits_person}
          <p>
            Next is a step by hand:
            <a class="anchor" href="/runs/{run.id}">open the list</a>.
          </p>
        {:else if busy}<RunProgress {run} />{:else}<RunResult {run} />{/if}
        {#if ended && run && (run.action || run.steps.some((step) => step.kind === 'compare'))}<p
            class="mt-1"
          >
            <a class="anchor" href="/runs/{run.id}">What was done</a>
          </p>{/if}
      </div>
    </section>
  {/if}

  <Later>
    <Held {machine} {names} busy={working} mayChange={may.work} onstarted={() => void started()} />
  </Later>

  <section class="mt-8" id="cleanup" aria-labelledby="ledger">
    <h2 id="ledger">What would be removed</h2>
    <Near room="min-h-[30rem]">
      {#if ledger}
        <Cleanup
          {machine}
          {ledger}
          busy={working || all}
          {leftOut}
          {fresh}
          onrules={look}
          onstarted={() => {
            void started();
            const work = document.getElementById('work');
            work?.scrollIntoView({ block: 'center' });
            work?.focus({ preventScroll: true });
          }}
        />
      {:else if ledgerFailed || ledgerAsked.isPending}
        <Failed query={ledgerAsked} />
      {:else}
        <p class="mt-2">This machine has not been surveyed yet. A survey changes nothing.</p>
      {/if}
    </Near>
  </section>

  <section class="mt-8" aria-labelledby="tuning">
    <h2 id="tuning">Startup programs and settings</h2>
    <Near room="min-h-96"
      ><StartupPrograms {machine} busy={working} onstarted={() => void started()} /></Near
    >
  </section>

  <section class="mt-8" aria-labelledby="checks">
    <h2 id="checks"><Term of="check">Checks</Term></h2>
    <Near room="min-h-48"><Checks {machine} busy={working} onstarted={() => void started()} /></Near
    >
  </section>

  <section class="mt-8" aria-labelledby="updates">
    <h2 id="updates">Updates</h2>
    <Near room="min-h-32"
      ><Updates {machine} busy={working} onstarted={() => void started()} /></Near
    >
  </section>

  <section class="mt-8" aria-labelledby="installed">
    <h2 id="installed">Programs</h2>
    <Near room="min-h-48"
      ><Installed {machine} busy={working} onstarted={() => void started()} /></Near
    >
  </section>

  <section class="mt-8" aria-labelledby="disks">
    <h2 id="disks">Disks and parts</h2>
    <Near room="min-h-48">
      <Disks {machine} busy={working} onstarted={() => void started()} />
      <BuiltIn {machine} />
      <RestartIt {machine} busy={working} onstarted={() => void started()} />
    </Near>
  </section>

  <section class="mt-8" aria-labelledby="advice">
    <h2 id="advice"><Term of="advice">Advice</Term></h2>
    <Near room="min-h-24"><AdviceGiven {machine} /></Near>
  </section>

  <section class="mt-8" aria-labelledby="protected">
    <h2 id="protected"><Term of="protect list">Protected</Term></h2>
    <p class="muted text-sm">
      The shop's, {machine.client_name}'s and this machine's own entries. Nothing can open what one
      of them protects.
    </p>
    <Near room="min-h-48"><Protections {machine} mayChange={may.work} isOwner={may.own} /></Near>
  </section>

  <section class="mt-8" aria-labelledby="rounds">
    <div class="flex items-center justify-between">
      <h2 id="rounds"><Term of="round">Rounds</Term></h2>
      {#if may.work}
        <a class="act noprint" href="/rounds/new?machine={machine.tag}">Make a round for it</a>
      {/if}
    </div>
    <Near room="min-h-24"><MachineRounds tag={machine.tag} /></Near>
  </section>

  <section class="mt-8" aria-labelledby="itself">
    <h2 id="itself">What it is</h2>
    <Near room="min-h-96"
      >{#key machine.id}<WhatItIs {machine} />{/key}</Near
    >
  </section>

  <section class="mt-8" aria-labelledby="record">
    <div class="flex flex-wrap items-baseline gap-x-4">
      <h2 id="record"><Term of="record">Record</Term></h2>
      {#each [0, 1] as back (back)}
        {@const month = monthBack(back)}
        <a
          class="anchor noprint text-sm"
          href="/records?machine={machine.tag}&since={month.since}&until={month.until}"
          >{back ? 'last month' : 'this month'}</a
        >
      {/each}
    </div>
    <Near room="min-h-96"><MachineRecord {machine} /></Near>
  </section>

  <Near room="min-h-24">
    {#key machine.id}<Made of={{ machine: machine.tag }} over="machine={machine.id}" />{/key}
  </Near>

  {#if may.work && !machine.retired_at}
    <section class="noprint mt-8" aria-labelledby="care">
      <h2 id="care">When it leaves</h2>
      <p class="muted mb-2 text-sm">
        Sold, broken, or its client gone elsewhere: its rounds end, its record stays.
      </p>
      <Retiring {machine} />
    </section>
  {/if}
{:else}
  <Failed query={machineAsked} />
{/if}
