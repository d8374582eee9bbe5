<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords, type Machine, type Schema } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';
  import { Draft } from '$lib/drafts.svelte';
  import { KINDS } from '$lib/visits/words';

  const draft = new Draft('visit', {
    kind: 'at the bench',
    reported_problem: '',
    condition: '',
    accessories: '',
    due_on: '',
    approval_limit: '',
    loaner: '',
    shelf: '',
    assignee_id: '',
    earlier_visit_id: ''
  });
  const f = draft.fields;
  let words = $state(page.url.searchParams.get('machine') ?? '');
  let chosen = $state<number | null>(null);
  let problem = $state('');
  let saving = $state(false);

  let rested = $state('');
  $effect(() => {
    const now = words.trim();
    const timer = setTimeout(() => (rested = now), 150);
    return () => clearTimeout(timer);
  });
  const asks = $derived(rested.length > 1);
  const byMachine = createQuery(() => ({
    ...ask('/api/v2/machines', { params: { query: { words: rested, limit: 8 } } }),
    enabled: asks
  }));
  // by name, contact, mail or digits of a phone number
  const clientsAsked = createQuery(() => ({
    ...ask('/api/v2/clients', { params: { query: { words: rested, limit: 3 } } }),
    enabled: asks
  }));
  const firstClient = $derived(asks ? (clientsAsked.data?.[0] ?? null) : null);
  const ofClient = createQuery(() => ({
    ...ask('/api/v2/machines', {
      params: { query: { client_id: firstClient?.id ?? 0, limit: 20 } }
    }),
    enabled: firstClient !== null
  }));
  const machines = $derived.by(() => {
    const all = [
      ...((asks ? byMachine.data : []) ?? []),
      ...((firstClient ? ofClient.data : []) ?? [])
    ] as Machine[];
    return all.filter((machine, n) => all.findIndex((other) => other.id === machine.id) === n);
  });
  // the only one that fits is meant
  $effect(() => {
    if (machines.length === 1 && machines[0]) chosen = machines[0].id;
    else if (chosen !== null && !machines.some((machine) => machine.id === chosen)) chosen = null;
  });
  const machine = $derived(machines.find((fitting) => fitting.id === chosen) ?? null);
  const earlierAsked = createQuery(() => ({
    ...ask('/api/v2/visits', { params: { query: { machine: machine?.tag ?? '', limit: 10 } } }),
    enabled: machine !== null
  }));
  const earlier = $derived(machine ? (earlierAsked.data ?? []) : []);
  const open = $derived(earlier.find((visit) => !visit.closed_at));
  const peopleAsked = createQuery(() => ask('/api/v2/people'));
  const people = $derived((peopleAsked.data ?? []).filter((person) => person.active));

  async function save(event: SubmitEvent) {
    event.preventDefault();
    if (!machine) {
      problem = 'Choose the machine first.';
      return;
    }
    saving = true;
    const { data, error } = await api.POST('/api/v2/visits', {
      body: {
        machine_id: machine.id,
        kind: f.kind as Schema['NewVisit']['kind'],
        reported_problem: f.reported_problem,
        condition: f.condition,
        accessories: f.accessories,
        due_on: f.due_on || null,
        approval_limit: f.approval_limit === '' ? null : Number(f.approval_limit),
        loaner: f.loaner,
        place: f.kind === 'at the bench' ? 'shelf' : 'client',
        shelf: f.shelf,
        assignee_id: f.assignee_id ? Number(f.assignee_id) : null,
        earlier_visit_id: f.earlier_visit_id ? Number(f.earlier_visit_id) : null
      }
    });
    saving = false;
    problem = error ? inWords(error) : '';
    if (!data) return;
    draft.reset();
    await refresh('/api/v2/visits');
    await goto(data.kind === 'at the bench' ? `/visits/${data.id}/slip` : `/visits/${data.id}`);
  }
</script>

<svelte:head><title>Check in a machine – Phylax</title></svelte:head>

<h1>Check in a machine</h1>
<form class="mt-4 grid max-w-4xl gap-4 sm:grid-cols-2" onsubmit={save}>
  <div class="sm:col-span-2">
    <label class="field max-w-xl">
      <span>Client's name, phone number, or the machine's tag</span>
      <!-- svelte-ignore a11y_autofocus -->
      <input class="box" bind:value={words} autofocus autocomplete="off" />
    </label>
    {#if machines.length}
      <fieldset class="mt-2" data-testid="machines">
        <legend class="sr-only">Which machine</legend>
        {#each machines as fitting (fitting.id)}
          <label class="flex items-baseline gap-2 py-1">
            <input type="radio" name="machine" value={fitting.id} bind:group={chosen} />
            <span>
              <strong>{fitting.tag}</strong>
              <span class="muted">
                {fitting.client_name}{[fitting.make, fitting.model].some(Boolean)
                  ? `, ${[fitting.make, fitting.model].filter(Boolean).join(' ')}`
                  : ''}
              </span>
            </span>
          </label>
        {/each}
      </fieldset>
    {:else if asks && byMachine.data}
      <p class="mt-2">
        No machine fits. <a class="anchor" href="/machines/new">Add a machine that is new here</a>.
      </p>
    {/if}
    {#if open}
      <p class="lossy mt-2" role="alert">
        {open.machine_tag} has an open visit:
        <a class="anchor" href="/visits/{open.id}">visit {open.id}</a>.
      </p>
    {/if}
  </div>
  <label class="field">
    <span>How</span>
    <select class="box" bind:value={f.kind}>
      {#each KINDS as kind (kind)}<option value={kind}>{kind}</option>{/each}
    </select>
  </label>
  <label class="field">
    <span>Due</span><input class="box" type="date" bind:value={f.due_on} />
  </label>
  <label class="field sm:col-span-2">
    <span>What is wrong, in the client’s words</span>
    <textarea class="box" rows="3" bind:value={f.reported_problem} maxlength="4000"></textarea>
  </label>
  <label class="field">
    <span>Condition</span>
    <input class="box" bind:value={f.condition} maxlength="1000" placeholder="a dent, no stain" />
  </label>
  <label class="field">
    <span>Accessories</span>
    <input
      class="box"
      bind:value={f.accessories}
      maxlength="1000"
      placeholder="charger, bag, two sticks"
    />
  </label>
  <label class="field">
    <span>Call before spending more than</span>
    <input class="box" type="number" min="0" max="10000000" bind:value={f.approval_limit} />
  </label>
  <label class="field">
    <span>Shelf</span><input class="box" bind:value={f.shelf} maxlength="60" placeholder="B3" />
  </label>
  <label class="field">
    <span>Assigned to</span>
    <select class="box" bind:value={f.assignee_id}>
      <option value="">anybody</option>
      {#each people as person (person.id)}<option value={String(person.id)}>{person.name}</option>
      {/each}
    </select>
  </label>
  <label class="field">
    <span>Loan device</span><input class="box" bind:value={f.loaner} maxlength="200" />
  </label>
  {#if earlier.some((visit) => visit.closed_at)}
    <label class="field sm:col-span-2">
      <span>Earlier visit</span>
      <select class="box" bind:value={f.earlier_visit_id}>
        <option value="">no earlier visit</option>
        {#each earlier.filter((visit) => visit.closed_at) as visit (visit.id)}
          <option value={String(visit.id)}>
            visit {visit.id}, {visit.outcome}: {visit.reported_problem.slice(0, 60)}
          </option>
        {/each}
      </select>
    </label>
  {/if}
  {#if problem}<p class="lossy sm:col-span-2" role="alert">{problem}</p>{/if}
  <div class="sm:col-span-2">
    <button class="act main" disabled={saving || Boolean(open)}>
      {saving ? 'Checking in…' : 'Check in'}
    </button>
  </div>
</form>
