<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { answerOf, ask, refresh } from '$lib/api/queries';
  import { goto } from '$app/navigation';
  import { api, inWords, type Machine, type Round, type RoundEdit } from '$lib/api/client';
  import { count, daysOf, full, stretch, today } from '$lib/words';
  import { SvelteSet } from 'svelte/reactivity';
  import { untrack } from 'svelte';

  interface Props {
    /** The round to change; left out, a new one is made. */
    round?: Round;
    /** Machines that are chosen from the start. */
    machines: Machine[];
    chosenTag?: string | null;
  }
  let { round, machines, chosenTag = null }: Props = $props();
  const plan = untrack(() => round?.plan);

  const OFTEN = [
    'every Tuesday',
    'every 2 weeks on Monday',
    'every month on the 1st',
    'the last Friday of every month',
    'every month on the first working day',
    'every 3 months on the first working day',
    'every day'
  ];
  const SYSTEMS = ['windows', 'macos', 'linux'] as const;

  const routinesAsked = createQuery(() => ask('/api/v1/routines'));
  const clientsAsked = createQuery(() =>
    ask('/api/v1/clients', { params: { query: { limit: 500 } } })
  );
  const peopleAsked = createQuery(() => ask('/api/v1/people'));
  const routines = $derived(routinesAsked.data ?? []);
  const clients = $derived(clientsAsked.data ?? []);
  const people = $derived(peopleAsked.data ?? []);
  let name = $state(plan?.name ?? '');
  let routine = $state(plan ? String(plan.routine_id) : '');
  let often = $state(plan ? (plan.recurrence ?? '') : 'every Tuesday');
  let at = $state(plan?.at.slice(0, 5) ?? '18:30');
  let closes = $state(plan?.closes?.slice(0, 5) ?? '');
  let hours = $state(plan ? Math.round(24 * daysOf(plan.catch_up)) : 12);
  let outside = $state(plan?.late_outside ?? false);
  let minutes = $state(plan ? Math.round(1440 * daysOf(plan.spread)) : 10);
  let onClosing = $state<RoundEdit['on_closing_days']>(plan?.on_closing_days ?? 'next day');
  let clientsTime = $state(plan?.zone_of === 'client');
  let startsOn = $state(plan?.starts_on ?? today());
  let butNot = $state(plan?.except_dates.join(', ') ?? '');
  let pressed = $state(Boolean(plan?.pressure));
  let below = $state(plan?.pressure?.below_percent ?? 10);
  let atMostEvery = $state(plan?.pressure?.at_most_every ?? 7);
  let caredFor = $state(plan?.cared_for_by ? String(plan.cared_for_by) : '');
  let filtered = $state(Boolean(plan?.machines_like));
  let system = $state(plan?.machines_like?.systems[0] ?? '');
  let like = $state(plan?.machines_like?.words ?? '');
  let words = $state('');
  const chosen = new SvelteSet<number>(plan?.machine_ids ?? []);
  const chosenClients = new SvelteSet<number>(plan?.client_ids ?? []);
  const but = new SvelteSet<number>(plan?.except_machine_ids ?? []);
  let problem = $state('');
  let saving = $state(false);

  const shown = $derived(
    machines.filter((m) =>
      `${m.tag} ${m.client_name}`.toLowerCase().includes(words.trim().toLowerCase())
    )
  );
  const isIn = (m: Machine) => !but.has(m.id) && (chosen.has(m.id) || byOther(m));
  const byOther = (m: Machine) => chosenClients.has(m.client_id) || (filtered && fits(m));
  const fits = (m: Machine) =>
    (!system || m.system === system) &&
    like
      .toLowerCase()
      .split(/\s+/)
      .every((w) => `${m.tag} ${m.client_name} ${m.make} ${m.model}`.toLowerCase().includes(w));
  const number = $derived(machines.filter(isIn).length);
  const somebody = $derived(chosen.size + chosenClients.size > 0 || filtered);
  const body = $derived<RoundEdit>({
    name: name.trim() || 'A round',
    routine_id: Number(routine || 1),
    recurrence: often.trim() || null,
    at,
    closes: closes || null,
    starts_on: startsOn || today(),
    zone_of: clientsTime ? 'client' : 'shop',
    except_dates: butNot.split(/[\s,]+/).filter(Boolean),
    on_closing_days: onClosing,
    catch_up: `PT${hours || 0}H`,
    late_outside: outside,
    spread: `PT${minutes || 0}M`,
    pressure: pressed ? { below_percent: below, at_most_every: atMostEvery } : null,
    machine_ids: [...chosen],
    client_ids: [...chosenClients],
    machines_like: filtered
      ? { systems: system ? [system as 'windows'] : [], words: like.trim() }
      : null,
    except_machine_ids: [...but],
    cared_for_by: caredFor ? Number(caredFor) : null,
    paused: plan?.paused ?? false,
    paused_until: plan?.paused_until ?? null
  });

  $effect(() => {
    const first = routines[0];
    if (first) untrack(() => (routine ||= String(first.id)));
  });
  $effect(() => {
    const wanted = machines.find((m) => m.tag === chosenTag);
    if (wanted) untrack(() => chosen.add(wanted.id));
  });
  // dates can be shown before machines are chosen; asked once typing rests
  const question = $derived(
    JSON.stringify(somebody ? body : { ...body, machines_like: { systems: [], words: '' } })
  );
  let rested = $state('');
  $effect(() => {
    const wanted = question;
    const timer = setTimeout(() => (rested = wanted), 200);
    return () => clearTimeout(timer);
  });
  const previewAsked = createQuery(() => ({
    queryKey: ['/api/v1/rounds/preview', rested],
    queryFn: ({ signal }) =>
      answerOf(
        api.POST('/api/v1/rounds/preview', { body: JSON.parse(rested) as RoundEdit, signal })
      ),
    enabled: rested !== ''
  }));
  const preview = $derived(previewAsked.data ?? null);
  $effect(() => {
    const failure = previewAsked.error;
    if (previewAsked.isFetched) problem = failure ? failure.message : '';
  });

  function choose(machine: Machine, on: boolean) {
    if (on) {
      but.delete(machine.id);
      if (!byOther(machine)) chosen.add(machine.id);
    } else {
      chosen.delete(machine.id);
      if (byOther(machine)) but.add(machine.id);
    }
  }

  async function save(event: SubmitEvent) {
    event.preventDefault();
    saving = true;
    const whole = { ...body, name: name.trim() };
    const { error } = round
      ? await api.PUT('/api/v1/rounds/{round_id}', {
          params: { path: { round_id: round.id } },
          headers: { 'If-Match': `"${round.version}"` },
          body: whole
        })
      : await api.POST('/api/v1/rounds', {
          headers: { 'Idempotency-Key': crypto.randomUUID() },
          body: whole
        });
    saving = false;
    if (error) problem = inWords(error);
    else {
      await refresh('/api/v1/rounds', '/api/v1/rounds/{round_id}', '/api/v1/rounds/agenda');
      await goto(round ? `/rounds/${round.id}` : '/rounds');
    }
  }
</script>

<form class="mt-6 grid gap-8 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]" onsubmit={save}>
  <div class="space-y-6">
    <div class="flex flex-wrap gap-4">
      <label class="field">
        <span>Name</span>
        <input class="box w-72" bind:value={name} required maxlength="120" />
      </label>
      <label class="field">
        <span>Routine</span>
        <select class="box w-60" bind:value={routine}>
          {#each routines as one (one.id)}<option value={String(one.id)}>{one.name}</option>{/each}
        </select>
      </label>
    </div>
    <fieldset>
      <legend class="font-semibold">How often</legend>
      <label class="field mt-2">
        <span>In plain words, or a recurrence rule</span>
        <input class="box max-w-md" bind:value={often} list="often" />
      </label>
      <datalist id="often">
        {#each OFTEN as words (words)}<option value={words}></option>{/each}
      </datalist>
      <div class="mt-3 flex flex-wrap items-end gap-3">
        <label class="field"
          ><span>It may start from</span><input
            class="box"
            type="time"
            bind:value={at}
            required
          /></label
        >
        <label class="field"
          ><span>must end by (optional)</span><input
            class="box"
            type="time"
            bind:value={closes}
          /></label
        >
        <label class="field">
          <span>if missed, run within so many hours</span>
          <input class="box w-24" type="number" min="0" max="336" bind:value={hours} />
        </label>
      </div>
      {#if closes}
        <label class="mt-2 flex items-baseline gap-2">
          <input type="checkbox" bind:checked={outside} /> a late run may start outside this window
        </label>
      {/if}
      <label class="mt-2 flex flex-wrap items-baseline gap-2">
        <input type="checkbox" bind:checked={pressed} />
        also when less than
        <input
          class="box w-16"
          type="number"
          min="1"
          max="50"
          bind:value={below}
          aria-label="Per cent free"
        />
        % of a volume are free, at most every
        <input
          class="box w-16"
          type="number"
          min="1"
          max="365"
          bind:value={atMostEvery}
          aria-label="Days between"
        /> days
      </label>
      <details class="mt-3">
        <summary class="cursor-pointer">Closing days, days left out, clocks, spread</summary>
        <div class="mt-2 flex flex-wrap items-end gap-3">
          <label class="field">
            <span>on a closing day</span>
            <select class="box w-48" bind:value={onClosing}>
              <option value="next day">move to the next open day</option>
              <option value="skip">leave it out</option>
              <option value="run">run anyway</option>
            </select>
          </label>
          <label class="field">
            <span>first day</span><input class="box" type="date" bind:value={startsOn} required />
          </label>
          <label class="field">
            <span>days left out</span>
            <input class="box w-56" bind:value={butNot} placeholder="2026-12-24, 2026-12-31" />
          </label>
          <label class="field">
            <span>starts spread over minutes</span>
            <input class="box w-24" type="number" min="0" max="720" bind:value={minutes} />
          </label>
          <label class="field">
            <span>responsible</span>
            <select class="box w-44" bind:value={caredFor}>
              <option value="">nobody</option>
              {#each people as person (person.id)}
                <option value={String(person.id)}>{person.name}</option>
              {/each}
            </select>
          </label>
        </div>
        <label class="mt-2 flex items-baseline gap-2">
          <input type="checkbox" bind:checked={clientsTime} /> times are in the client's time zone
        </label>
      </details>
    </fieldset>
    <fieldset>
      <legend class="font-semibold">Which machines ({count(number, 'machine')} now)</legend>
      <p class="muted mt-1 text-sm">All of a client's, also those taken in later:</p>
      <div class="mt-1 flex flex-wrap gap-2">
        {#each clients as client (client.id)}
          <button
            type="button"
            class="act"
            class:main={chosenClients.has(client.id)}
            aria-pressed={chosenClients.has(client.id)}
            onclick={() =>
              chosenClients.has(client.id)
                ? chosenClients.delete(client.id)
                : chosenClients.add(client.id)}>{client.name}</button
          >
        {/each}
      </div>
      <label class="mt-3 flex flex-wrap items-baseline gap-2">
        <input type="checkbox" bind:checked={filtered} /> every machine, now and later,
        <select class="box w-36" bind:value={system} aria-label="System">
          <option value="">of any system</option>
          {#each SYSTEMS as one (one)}<option value={one}>{one}</option>{/each}
        </select>
        with the words
        <input class="box w-44" bind:value={like} aria-label="Words in tag, client or model" />
      </label>
      <input
        class="box mt-3 max-w-md"
        placeholder="Find a machine by tag or client"
        bind:value={words}
        aria-label="Find a machine"
      />
      <div class="mt-2 max-h-64 overflow-auto border-y border-[var(--line)] py-1">
        {#each shown.slice(0, 200) as machine (machine.id)}
          <label class="flex items-baseline gap-2 py-0.5">
            <input
              type="checkbox"
              checked={isIn(machine)}
              onchange={(e) => choose(machine, e.currentTarget.checked)}
            />
            <span
              >{machine.tag}
              <span class="muted text-sm"
                >{machine.client_name}{but.has(machine.id) ? ' · left out' : ''}</span
              ></span
            >
          </label>
        {/each}
      </div>
    </fieldset>
  </div>
  <aside class="space-y-4 lg:sticky lg:top-4 lg:self-start">
    <h2>Next five dates</h2>
    {#if preview}
      <p data-testid="how-often">{preview.how_often}</p>
      <ol class="ruled" data-testid="next-dates">
        {#each preview.next_dates as next (next)}
          <li class="py-1.5">{full(next).replace(/:\d\d$/, '')}</li>
        {/each}
      </ol>
      {#each preview.notes as note (note)}<p class="muted text-sm">{note}</p>{/each}
      {#if somebody && preview.takes}
        <p class="muted text-sm">
          About {stretch(Math.round(86_400 * daysOf(preview.takes)))} on a machine, by its earlier runs.
        </p>
      {/if}
      {#if somebody}
        {#each preview.seldom_on as habit (habit.machine_id)}
          <p class="lookhere text-sm" data-testid="seldom-on">
            Rarely on: {habit.sentence}.
            {#if habit.proposed_at && !habit.proposed_day}
              <button
                type="button"
                class="plain"
                onclick={() => (at = habit.proposed_at?.slice(0, 5) ?? at)}
                >Take {habit.proposed_at.slice(0, 5)}</button
              >
            {/if}
          </p>
        {/each}
        {#if preview.too_long_for.length}
          <p class="lookhere text-sm">
            Will not finish before the window closes: {preview.too_long_for.join(', ')}.
          </p>
        {/if}
      {/if}
    {/if}
    {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
    <button class="act main" disabled={saving || !somebody || !name.trim()}>
      {saving ? 'Saving…' : round ? 'Save the round' : 'Make the round'}
    </button>
    {#if !somebody}<p class="muted text-sm">Choose machines, clients or a filter.</p>{/if}
  </aside>
</form>
