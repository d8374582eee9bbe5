<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { answerOf, ask, refresh } from '$lib/api/queries';
  import { goto } from '$app/navigation';
  import { api, inWords, type Machine, type Round, type RoundEdit } from '$lib/api/client';
  import Conflict from '$lib/components/Conflict.svelte';
  import { changedMeanwhile, type Changed } from '$lib/conflict';
  import { Draft } from '$lib/drafts.svelte';
  import MachinePicker from '$lib/machines/MachinePicker.svelte';
  import VolumeFields from '$lib/machines/VolumeFields.svelte';
  import { count } from '$lib/words';
  import { untrack } from 'svelte';
  import ClientChips from './ClientChips.svelte';
  import { editOf, fieldsOf, inFields } from './fields';
  import OftenBuilder from './OftenBuilder.svelte';
  import RoundPreview from './RoundPreview.svelte';

  interface Props {
    /** The round to change; left out, a new one is made. */
    round?: Round;
    /** Numbers of machines that are chosen from the start. */
    chosen?: number[];
  }
  let { round, chosen = [] }: Props = $props();

  const OFTEN = [
    'every Tuesday',
    'every 2 weeks on Monday',
    'every first Monday',
    'every month on the 1st',
    'the last Friday of every month',
    'every month on the first working day',
    'every 3 months on the first working day',
    'every day'
  ];
  const SYSTEMS = ['windows', 'macos', 'linux'] as const;

  const routinesAsked = createQuery(() => ask('/api/v2/routines'));
  const peopleAsked = createQuery(() => ask('/api/v2/people'));
  const routines = $derived(routinesAsked.data ?? []);
  const people = $derived(peopleAsked.data ?? []);
  const draft = untrack(
    () =>
      new Draft(
        `round:${round?.id ?? (chosen.length ? `of ${chosen.join()}` : 'new')}`,
        fieldsOf(round, chosen)
      )
  );
  const f = draft.fields;
  // the machines of the round stand first in the list, where one can take them out again
  const chosenFirst = untrack(() => [...f.machines, ...f.but]);
  let problem = $state('');
  let saving = $state(false);
  let conflict = $state<Changed<Round> | null>(null);

  const isIn = (m: Machine) => !f.but.includes(m.id) && (f.machines.includes(m.id) || byOther(m));
  const byOther = (m: Machine) => f.clients.includes(m.client_id) || (f.filtered && fits(m));
  const fits = (m: Machine) =>
    (!f.system || m.system === f.system) &&
    f.like
      .toLowerCase()
      .split(/\s+/)
      .every((w) => `${m.tag} ${m.client_name} ${m.make} ${m.model}`.toLowerCase().includes(w));
  const somebody = $derived(f.machines.length + f.clients.length > 0 || f.filtered);
  const body = $derived<RoundEdit>(editOf(f, round?.plan));

  $effect(() => {
    const first = routines[0];
    if (first) untrack(() => (f.routine ||= String(first.id)));
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
    queryKey: ['/api/v2/rounds/preview', rested],
    queryFn: ({ signal }) =>
      answerOf(
        api.POST('/api/v2/rounds/preview', { body: JSON.parse(rested) as RoundEdit, signal })
      ),
    placeholderData: keepPreviousData,
    enabled: rested !== ''
  }));
  const preview = $derived(previewAsked.error ? null : (previewAsked.data ?? null));
  const number = $derived(!somebody ? 0 : (preview?.machines ?? null));
  // what is wrong with it is said while it is typed
  const wrong = $derived(previewAsked.error?.message ?? '');

  // a time or day that the words say, where its own field says another
  const said = $derived.by(() => {
    const match = /the words say (\S+), '(at|closes|starts_on)' says/.exec(wrong);
    return match ? { words: match[1]!, field: match[2]! } : null;
  });
  function takeSaid() {
    if (said?.field === 'at') f.at = said.words;
    else if (said?.field === 'closes') f.closes = said.words;
    else if (said) f.startsOn = said.words;
  }

  function choose(machine: Machine, on: boolean) {
    const without = (ids: number[]) => ids.filter((id) => id !== machine.id);
    if (on) {
      f.but = without(f.but);
      if (!byOther(machine)) f.machines = [...without(f.machines), machine.id];
    } else {
      f.machines = without(f.machines);
      if (byOther(machine)) f.but = [...without(f.but), machine.id];
    }
  }

  async function save(event: SubmitEvent) {
    event.preventDefault();
    await put(f.version);
  }
  async function put(version: number) {
    saving = true;
    const whole = { ...body, name: f.name.trim() };
    const { error } = round
      ? await api.PUT('/api/v2/rounds/{round_id}', {
          params: { path: { round_id: round.id } },
          headers: { 'If-Match': `"${version}"` },
          body: whole
        })
      : await api.POST('/api/v2/rounds', {
          headers: { 'Idempotency-Key': crypto.randomUUID() },
          body: whole
        });
    saving = false;
    conflict = changedMeanwhile<Round>(error);
    problem = error && !conflict ? inWords(error) : '';
    if (!error) {
      draft.reset();
      await refresh('/api/v2/rounds', '/api/v2/rounds/{round_id}', '/api/v2/rounds/agenda');
      await goto(round ? `/rounds/${round.id}` : '/rounds');
    }
  }
  function takeTheirs() {
    if (conflict) draft.reset(fieldsOf(conflict.current));
    conflict = null;
    problem = '';
  }
</script>

<form class="mt-6 grid gap-8 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]" onsubmit={save}>
  <div class="space-y-6">
    <div class="flex flex-wrap gap-4">
      <label class="field">
        <span>Name</span>
        <input class="box w-72" bind:value={f.name} required maxlength="120" />
      </label>
      <label class="field">
        <span>Routine</span>
        <select class="box w-60" bind:value={f.routine}>
          {#each routines as routine (routine.id)}<option value={String(routine.id)}
              >{routine.name}</option
            >{/each}
        </select>
      </label>
    </div>
    <fieldset>
      <legend class="font-semibold">How often</legend>
      <label class="field mt-2">
        <span>In plain words, or a recurrence rule</span>
        <input class="box max-w-md" bind:value={f.often} list="often" />
      </label>
      <datalist id="often">
        {#each OFTEN as words (words)}<option value={words}></option>{/each}
      </datalist>
      <OftenBuilder bind:words={f.often} rule={preview?.recurrence ?? null} />
      <div class="mt-3 flex flex-wrap items-end gap-3">
        <label class="field"
          ><span>It may start from</span><input
            class="box"
            type="time"
            bind:value={f.at}
            required
          /></label
        >
        <label class="field"
          ><span>must end by (optional)</span><input
            class="box"
            type="time"
            bind:value={f.closes}
          /></label
        >
        <label class="field">
          <span>if missed, run within so many hours</span>
          <input class="box w-24" type="number" min="0" max="336" bind:value={f.hours} />
        </label>
      </div>
      {#if f.closes}
        <label class="mt-2 flex items-baseline gap-2">
          <input type="checkbox" bind:checked={f.outside} /> a late run may start outside this window
        </label>
      {/if}
      <label class="mt-2 flex flex-wrap items-baseline gap-2">
        <input type="checkbox" bind:checked={f.pressed} />
        also when less than
        <input
          class="box w-16"
          type="number"
          min="1"
          max="50"
          bind:value={f.below}
          aria-label="Per cent free"
        />
        % of a volume are free, at most every
        <input
          class="box w-16"
          type="number"
          min="1"
          max="365"
          bind:value={f.atMostEvery}
          aria-label="Days between"
        /> days
      </label>
      <details class="mt-3">
        <summary class="cursor-pointer">Closing days, days left out, clocks, spread</summary>
        <div class="mt-2 flex flex-wrap items-end gap-3">
          <label class="field">
            <span>on a closing day</span>
            <select class="box w-48" bind:value={f.onClosing}>
              <option value="next day">move to the next open day</option>
              <option value="skip">leave it out</option>
              <option value="run">run anyway</option>
            </select>
          </label>
          <label class="field">
            <span>first day</span><input class="box" type="date" bind:value={f.startsOn} required />
          </label>
          <label class="field">
            <span>days left out</span>
            <input class="box w-56" bind:value={f.butNot} placeholder="2026-12-24, 2026-12-31" />
          </label>
          <label class="field">
            <span>starts spread over minutes</span>
            <input class="box w-24" type="number" min="0" max="720" bind:value={f.minutes} />
          </label>
          <label class="field">
            <span>responsible</span>
            <select class="box w-44" bind:value={f.caredFor}>
              <option value="">nobody</option>
              {#each people as person (person.id)}
                <option value={String(person.id)}>{person.name}</option>
              {/each}
            </select>
          </label>
        </div>
        <label class="mt-2 flex items-baseline gap-2">
          <input type="checkbox" bind:checked={f.clientsTime} /> times are in the client's time zone
        </label>
      </details>
    </fieldset>
    <fieldset>
      <legend class="font-semibold"
        >Which machines ({number === null ? '…' : count(number, 'machine')} now)</legend
      >
      <p class="muted mt-1 text-sm">All machines of a client, also those added later:</p>
      <ClientChips bind:chosen={f.clients} />
      <label class="mt-3 flex flex-wrap items-baseline gap-2">
        <input type="checkbox" bind:checked={f.filtered} /> every machine, now and later,
        <select class="box w-36" bind:value={f.system} aria-label="System">
          <option value="">of any system</option>
          {#each SYSTEMS as system (system)}<option value={system}>{system}</option>{/each}
        </select>
        with the words
        <input class="box w-44" bind:value={f.like} aria-label="Words in tag, client or model" />
      </label>
      <MachinePicker
        {isIn}
        noteOf={(machine) => (f.but.includes(machine.id) ? ' · left out' : '')}
        onchoose={choose}
        first={chosenFirst}
      />
      <div class="mt-3"><VolumeFields bind:way={f.volumes} bind:names={f.volumeNames} /></div>
    </fieldset>
  </div>
  <aside class="space-y-4 lg:sticky lg:top-4 lg:self-start">
    <h2>Next five dates</h2>
    {#if preview}
      <RoundPreview {preview} {somebody} ontake={(at) => (f.at = at)} />
    {/if}
    {#if conflict}
      <Conflict
        changed={conflict}
        ours={inFields(f, routines)}
        theirs={inFields(fieldsOf(conflict.current), routines)}
        onours={() => void put(conflict!.current.version)}
        ontheirs={takeTheirs}
      />
    {:else if problem || wrong}
      <p class="lossy" role="alert">{problem || wrong}</p>
      {#if said}
        <button type="button" class="act" onclick={takeSaid}
          >Take {said.words} from the words</button
        >
      {/if}
    {/if}
    <button class="act main" disabled={saving || !somebody || !f.name.trim() || conflict !== null}>
      {saving ? 'Saving…' : round ? 'Save the round' : 'Make the round'}
    </button>
    {#if !somebody}<p class="muted text-sm">Choose machines, clients or a filter.</p>{/if}
    {#if draft.restored}
      <p class="muted text-sm">
        As you typed it before.
        <button type="button" class="plain" onclick={() => draft.reset()}>Start over</button>
      </p>
    {/if}
  </aside>
</form>
