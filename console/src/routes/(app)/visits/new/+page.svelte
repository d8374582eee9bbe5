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
    said: '',
    condition: '',
    came_along: '',
    wanted_by: '',
    ask_above: '',
    loan: '',
    shelf: '',
    whom: '',
    back_from: ''
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
    ...ask('/api/v1/machines', { params: { query: { words: rested, limit: 8 } } }),
    enabled: asks
  }));
  // by name, contact, mail or digits of a phone number
  const clientsAsked = createQuery(() => ({
    ...ask('/api/v1/clients', { params: { query: { words: rested, limit: 3 } } }),
    enabled: asks
  }));
  const firstClient = $derived(asks ? (clientsAsked.data?.[0] ?? null) : null);
  const ofClient = createQuery(() => ({
    ...ask('/api/v1/machines', {
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
    ...ask('/api/v1/visits', { params: { query: { machine: machine?.tag ?? '', limit: 10 } } }),
    enabled: machine !== null
  }));
  const earlier = $derived(machine ? (earlierAsked.data ?? []) : []);
  const open = $derived(earlier.find((visit) => !visit.closed_at));
  const peopleAsked = createQuery(() => ask('/api/v1/people'));
  const people = $derived((peopleAsked.data ?? []).filter((person) => person.active));

  async function save(event: SubmitEvent) {
    event.preventDefault();
    if (!machine) {
      problem = 'Choose the machine first.';
      return;
    }
    saving = true;
    const { data, error } = await api.POST('/api/v1/visits', {
      body: {
        machine_id: machine.id,
        kind: f.kind as Schema['NewVisit']['kind'],
        said: f.said,
        condition: f.condition,
        came_along: f.came_along,
        wanted_by: f.wanted_by || null,
        ask_above: f.ask_above === '' ? null : Number(f.ask_above),
        loan: f.loan,
        place: f.kind === 'at the bench' ? 'shelf' : 'client',
        shelf: f.shelf,
        whom: f.whom ? Number(f.whom) : null,
        back_from: f.back_from ? Number(f.back_from) : null
      }
    });
    saving = false;
    problem = error ? inWords(error) : '';
    if (!data) return;
    draft.reset();
    await refresh('/api/v1/visits');
    await goto(data.kind === 'at the bench' ? `/visits/${data.id}/slip` : `/visits/${data.id}`);
  }
</script>

<svelte:head><title>Take a machine in – Phylax</title></svelte:head>

<h1>Take a machine in</h1>
<form class="mt-4 grid max-w-4xl gap-4 sm:grid-cols-2" onsubmit={save}>
  <div class="sm:col-span-2">
    <label class="field max-w-xl">
      <span>Whose, or which: a name, digits of the phone, or the tag</span>
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
        {open.machine_tag} is in hand:
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
    <span>Wanted by</span><input class="box" type="date" bind:value={f.wanted_by} />
  </label>
  <label class="field sm:col-span-2">
    <span>What is wrong, in the client’s words</span>
    <textarea class="box" rows="3" bind:value={f.said} maxlength="4000"></textarea>
  </label>
  <label class="field">
    <span>Condition</span>
    <input class="box" bind:value={f.condition} maxlength="1000" placeholder="a dent, no stain" />
  </label>
  <label class="field">
    <span>What came along</span>
    <input
      class="box"
      bind:value={f.came_along}
      maxlength="1000"
      placeholder="charger, bag, two sticks"
    />
  </label>
  <label class="field">
    <span>Ask before anything above (amount)</span>
    <input class="box" type="number" min="0" max="10000000" bind:value={f.ask_above} />
  </label>
  <label class="field">
    <span>Shelf</span><input class="box" bind:value={f.shelf} maxlength="60" placeholder="B3" />
  </label>
  <label class="field">
    <span>Whose move is it first</span>
    <select class="box" bind:value={f.whom}>
      <option value="">anybody's of us</option>
      {#each people as person (person.id)}<option value={String(person.id)}>{person.name}</option>
      {/each}
    </select>
  </label>
  <label class="field">
    <span>Lent meanwhile</span><input class="box" bind:value={f.loan} maxlength="200" />
  </label>
  {#if earlier.some((visit) => visit.closed_at)}
    <label class="field sm:col-span-2">
      <span>Comes back from</span>
      <select class="box" bind:value={f.back_from}>
        <option value="">no earlier visit</option>
        {#each earlier.filter((visit) => visit.closed_at) as visit (visit.id)}
          <option value={String(visit.id)}>
            visit {visit.id}, {visit.outcome}: {visit.said.slice(0, 60)}
          </option>
        {/each}
      </select>
    </label>
  {/if}
  {#if problem}<p class="lossy sm:col-span-2" role="alert">{problem}</p>{/if}
  <div class="sm:col-span-2">
    <button class="act main" disabled={saving || Boolean(open)}>
      {saving ? 'Taking in…' : 'Take it in'}
    </button>
  </div>
</form>
