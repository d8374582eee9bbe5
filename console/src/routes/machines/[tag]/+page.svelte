<script lang="ts">
  import { page } from '$app/state';
  import {
    api,
    inWords,
    type Ledger,
    type Machine,
    type MaintenanceRecord,
    type Round,
    type RunDetail,
    type Trend
  } from '$lib/api/client';
  import { live } from '$lib/api/live.svelte';
  import Held from '$lib/components/Held.svelte';
  import GoesAndStays from '$lib/components/GoesAndStays.svelte';
  import Protections from '$lib/components/Protections.svelte';
  import RoutineStart from '$lib/components/RoutineStart.svelte';
  import Prospects from '$lib/components/Prospects.svelte';
  import RunProgress from '$lib/components/RunProgress.svelte';
  import RunResult from '$lib/components/RunResult.svelte';
  import Timeline from '$lib/components/Timeline.svelte';
  import Threshold from '$lib/components/Threshold.svelte';
  import TrendChart from '$lib/components/TrendChart.svelte';
  import VolumeBar from '$lib/components/VolumeBar.svelte';
  import When from '$lib/components/When.svelte';
  import { share, size } from '$lib/words';
  import ScanSearch from '@lucide/svelte/icons/scan-search';

  const SPANS = [
    { days: 7, name: '7 days' },
    { days: 30, name: '30 days' },
    { days: 90, name: '90 days' },
    { days: 365, name: 'a year' },
    { days: 3650, name: 'all' }
  ];

  const tag = $derived(page.params.tag ?? '');
  let machine = $state<Machine | null>(null);
  const threshold = $derived(machine?.limit_percent ?? 90);
  let role = $state('desk');
  let ledger = $state<Ledger | null>(null);
  let run = $state<RunDetail | null>(null);
  let trend = $state<Trend | null>(null);
  let rounds = $state<Round[]>([]);
  let records = $state<MaintenanceRecord[]>([]);
  let moreRecords = $state(false);
  let mount = $state<string | undefined>();
  let days = $state(90);
  let from = $state('');
  let until = $state('');
  let note = $state('');
  let problem = $state('');
  let noteProblem = $state('');

  const ended = $derived(
    run !== null && ['done', 'partly', 'failed', 'missed', 'called off'].includes(run.state)
  );
  const busy = $derived(run !== null && !ended);
  // a list that waits for a person keeps nobody from looking or cleaning
  const working = $derived(busy && !run?.at_hand);
  // the number alone: listeners must not be made anew, losing what they wait for, at each reading
  const machineId = $derived(machine?.id);
  const shareOf = (name: string) => ledger?.volumes.find((v) => v.mount === name);
  const names = $derived(
    Object.fromEntries((ledger?.lines ?? []).map((line) => [line.category, line.name]))
  );
  const at = $derived({ params: { path: { machine: tag } } });

  async function loadMachine() {
    const { data, error } = await api.GET('/api/v1/machines/{machine}', at);
    if (data) machine = data;
    else problem = inWords(error);
  }
  async function loadLedger() {
    // while a look runs, what it has found so far; else the newest whole one
    if (run?.state === 'running' && run.work === 'survey' && run.survey_id) {
      const { data } = await api.GET('/api/v1/surveys/{survey_id}/ledger', {
        params: { path: { survey_id: run.survey_id } }
      });
      if (data?.lines.length) {
        ledger = data;
        return;
      }
    }
    const { data } = await api.GET('/api/v1/machines/{machine}/ledger', at);
    ledger = data ?? null;
  }
  async function loadRun() {
    const { data } = await api.GET('/api/v1/runs', {
      params: { query: { machine: tag, limit: 12 } }
    });
    const open = data?.find((r) => ['offered', 'running', 'waiting'].includes(r.state));
    const shown = open ?? data?.find((r) => r.work !== 'survey') ?? data?.[0];
    if (!shown) return;
    const { data: whole } = await api.GET('/api/v1/runs/{run_id}', {
      params: { path: { run_id: shown.id } }
    });
    run = whole ?? null;
  }
  /** How often a trend was asked for: an answer that was overtaken by a newer question is dropped. */
  let trendsAsked = 0;
  async function loadTrend() {
    const mine = ++trendsAsked;
    const since = from
      ? new Date(from).toISOString()
      : new Date(Date.now() - days * 86_400_000).toISOString();
    const end = until ? new Date(Date.parse(until) + 86_400_000).toISOString() : undefined;
    const { data } = await api.GET('/api/v1/machines/{machine}/trend', {
      params: { path: { machine: tag }, query: { mount, since, until: end, points: 400 } }
    });
    if (mine === trendsAsked) trend = data ?? null;
  }
  async function loadRecords(before?: number) {
    const { data, response } = await api.GET('/api/v1/records', {
      params: { query: { machine: tag, limit: 15, before } }
    });
    if (!data) return;
    records = before ? [...records, ...data] : data;
    moreRecords = response.headers.has('Link');
  }

  $effect(() => {
    const name = tag;
    problem = '';
    void loadMachine();
    void loadLedger();
    void loadRun();
    void loadRecords();
    void api
      .GET('/api/v1/machines/{machine}/rounds', { params: { path: { machine: name } } })
      .then(({ data }) => (rounds = data ?? []));
    void api.GET('/api/v1/me').then(({ data }) => (role = data?.role ?? 'desk'));
  });
  $effect(() => {
    void [tag, days, mount, from, until];
    void loadTrend();
  });
  $effect(() => {
    const id = machineId;
    if (id === undefined) return;
    const stops = [
      live.on(['run'], () => void loadRun().then(loadLedger), 150, id),
      live.on(['survey', 'rule'], () => void loadRun().then(loadLedger), 150, id),
      live.on(['record'], () => void loadRecords(), 150, id),
      live.on(['reading', 'machine', 'record', 'attention'], () => void loadMachine(), 300, id),
      live.on(['reading', 'record'], () => void loadTrend(), 500, id)
    ];
    return () => stops.forEach((stop) => stop());
  });

  async function look() {
    if (!machine) return;
    const { error } = await api.POST('/api/v1/runs', {
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: {
        machine_id: machine.id,
        work: 'survey',
        categories: [],
        consent_ids: [],
        held: [],
        if_taken: 'leave'
      }
    });
    problem = error ? inWords(error) : '';
    await loadRun();
  }

  async function addNote(event: SubmitEvent) {
    event.preventDefault();
    if (!machine || !note.trim()) return;
    const { error } = await api.POST('/api/v1/records', {
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: { machine_id: machine.id, text: note.trim() }
    });
    noteProblem = error ? inWords(error) : '';
    if (!error) {
      note = '';
      await loadRecords();
    }
  }
</script>

<svelte:head><title>{tag} – Phylax</title></svelte:head>

{#if problem && !machine}
  <h1>{tag}</h1>
  <p class="lossy mt-4">{problem}</p>
{:else if machine}
  <div class="flex flex-wrap items-start justify-between gap-4">
    <div>
      <h1>{machine.tag}</h1>
      <p>
        {machine.client_name}
        <span class="muted">
          · {[machine.make, machine.model].filter(Boolean).join(' ') || 'make and model not noted'} ·
          {machine.system}{machine.memory ? ` · ${size(machine.memory)} memory` : ''}
        </span>
      </p>
      <p class="muted text-sm">
        {#if machine.enrolled}last contact <When at={machine.seen_at} />{:else}no agent enrolled yet{/if}
        {#if machine.note}· {machine.note}{/if}
      </p>
    </div>
    <div class="noprint flex flex-wrap gap-2">
      {#if role !== 'desk'}<RoutineStart machineIds={[machine.id]} goThere />{/if}
      <button class="act" onclick={look} disabled={working || !machine.enrolled}>
        <ScanSearch aria-hidden="true" />Survey it
      </button>
    </div>
  </div>
  {#if problem}<p class="lossy mt-2">{problem}</p>{/if}

  <section class="mt-6 space-y-4" aria-label="Volumes">
    {#each machine.volumes as volume (volume.id)}
      {@const parts = shareOf(volume.mount)}
      <div>
        <p class="mb-1 flex flex-wrap justify-between gap-2">
          <span>
            <code>{volume.mount}</code>
            <span class="muted"
              >{volume.file_system} {volume.disk === 'unknown' ? '' : volume.disk}</span
            >
          </span>
          <span data-testid="free-{volume.mount}">
            {share(volume.capacity - volume.free, volume.capacity)} of {size(volume.capacity)} used,
            <strong>{size(volume.free)} free</strong>
          </span>
        </p>
        <VolumeBar {volume} {threshold} tall goes={parts?.goes ?? 0} asks={parts?.needs_yes ?? 0} />
      </div>
    {/each}
    <p class="muted flex flex-wrap gap-x-5 text-sm">
      <span><i class="key" style:background="var(--part-used)"></i>in use</span>
      <span><i class="key" style:background="var(--part-goes)"></i>would go</span>
      <span><i class="key" style:background="var(--part-asks)"></i>needs a yes</span>
      <span><i class="key" style:background="var(--part-free)"></i>free</span>
      <span>the tick: {threshold} % used</span>
    </p>
  </section>

  <section class="mt-8" aria-labelledby="trend">
    <div class="flex flex-wrap items-center justify-between gap-2">
      <h2 id="trend">Trend</h2>
      <div class="noprint flex flex-wrap gap-2">
        {#if machine.volumes.length > 1}
          {#each machine.volumes as volume (volume.id)}
            <button
              class="act"
              class:main={trend?.mount === volume.mount}
              onclick={() => (mount = volume.mount)}><code>{volume.mount}</code></button
            >
          {/each}
        {/if}
        {#each SPANS as span (span.days)}
          <button
            class="act"
            class:main={days === span.days && !from && !until}
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
    {#if trend}<TrendChart {trend} /><Prospects
        {machine}
        outlook={trend.outlook ?? null}
      />{:else}<p class="muted">No readings yet.</p>{/if}
    <Threshold
      {machine}
      isOwner={role === 'owner'}
      onchanged={() => void loadMachine().then(loadTrend)}
    />
  </section>

  {#if run}
    <section class="mt-8" aria-labelledby="work">
      <h2 id="work" class="mb-2">
        {busy ? 'Running now' : 'Last run'}
        {#if run.routine_name}<a class="anchor text-base font-normal" href="/runs/{run.id}"
            >{run.routine_name}</a
          >{/if}
      </h2>
      {#if busy && run.at_hand}
        <p>
          Next is a step by hand:
          <a class="anchor" href="/runs/{run.id}">open the list</a>.
        </p>
      {:else if busy}<RunProgress {run} />{:else}<RunResult {run} />{/if}
    </section>
  {/if}

  <Held
    {machine}
    {names}
    busy={working}
    mayChange={role !== 'desk'}
    onstarted={() => void loadRun()}
  />

  <section class="mt-8" id="goes-and-stays" aria-labelledby="ledger">
    <h2 id="ledger">Goes and stays</h2>
    {#if ledger}
      <GoesAndStays
        {machine}
        {ledger}
        busy={working}
        onrules={look}
        onstarted={() => {
          void loadRun();
          document.getElementById('work')?.scrollIntoView({ block: 'center' });
        }}
      />
    {:else}
      <p class="mt-2">This machine has not been surveyed yet. A survey changes nothing.</p>
    {/if}
  </section>

  <section class="mt-8" aria-labelledby="protected">
    <h2 id="protected">What always stays</h2>
    <p class="muted text-sm">
      The shop's, {machine.client_name}'s and this machine's own entries. Nothing can open what one
      of them protects.
    </p>
    <Protections {machine} mayChange={role !== 'desk'} isOwner={role === 'owner'} />
  </section>

  <section class="mt-8" aria-labelledby="rounds">
    <div class="flex items-center justify-between">
      <h2 id="rounds">Rounds</h2>
      <a class="act noprint" href="/rounds/new?machine={machine.tag}">Make a round for it</a>
    </div>
    <ul class="ruled mt-2">
      {#each rounds as round (round.id)}
        <li class="flex flex-wrap justify-between gap-2 py-2">
          <span
            ><a class="anchor" href="/rounds/{round.id}">{round.name}</a>
            <span class="muted">{round.how_often}</span></span
          >
          <span
            >{#if round.plan.paused}paused{:else}next <When at={round.next_at} />{/if}</span
          >
        </li>
      {:else}
        <li class="muted py-2">No round covers this machine.</li>
      {/each}
    </ul>
  </section>

  <section class="mt-8" aria-labelledby="record">
    <h2 id="record">Record</h2>
    <form class="noprint mt-2 flex flex-wrap gap-2" onsubmit={addNote}>
      <label class="sr-only" for="note">Write something down</label>
      <input
        id="note"
        class="box min-w-64 flex-1"
        bind:value={note}
        maxlength="4000"
        placeholder="Write something down: what was said, advised, done by hand"
      />
      <button class="act" disabled={!note.trim()}>Write down</button>
    </form>
    {#if noteProblem}<p class="lossy">{noteProblem}</p>{/if}
    <Timeline {records} />
    {#if moreRecords}
      <button class="act noprint" onclick={() => loadRecords(records.at(-1)?.id)}>Show older</button
      >
    {/if}
  </section>
{:else}
  <p class="muted">Asking the service…</p>
{/if}

<style>
  .key {
    display: inline-block;
    width: 0.8em;
    height: 0.8em;
    border-radius: 0.15em;
    margin-right: 0.35em;
    border: 1px solid var(--line);
  }
</style>
