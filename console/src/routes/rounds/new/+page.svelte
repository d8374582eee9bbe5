<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { api, inWords, type Machine, type Schema } from '$lib/api/client';
  import { count, full } from '$lib/words';
  import { SvelteSet } from 'svelte/reactivity';

  const DAYS = [
    ['MO', 'Monday'],
    ['TU', 'Tuesday'],
    ['WE', 'Wednesday'],
    ['TH', 'Thursday'],
    ['FR', 'Friday'],
    ['SA', 'Saturday'],
    ['SU', 'Sunday']
  ] as const;

  let machines = $state<Machine[]>([]);
  let catalogue = $state<Schema['Category'][]>([]);
  let name = $state('');
  let how = $state<'weekly' | 'monthly' | 'rule'>('weekly');
  let day = $state('TU');
  let date = $state(1);
  let written = $state('FREQ=MONTHLY;BYDAY=-1FR');
  let at = $state('18:30');
  let hours = $state(12);
  let words = $state('');
  const chosen = new SvelteSet<number>();
  const cleans = new SvelteSet<string>(['user-temp', 'trash', 'web-cache']);
  let preview = $state<Schema['RoundPreview'] | null>(null);
  let problem = $state('');
  let saving = $state(false);

  const recurrence = $derived(
    how === 'weekly'
      ? `FREQ=WEEKLY;BYDAY=${day}`
      : how === 'monthly'
        ? `FREQ=MONTHLY;BYMONTHDAY=${date}`
        : written
  );
  const shown = $derived(
    machines.filter((m) =>
      `${m.tag} ${m.client_name}`.toLowerCase().includes(words.trim().toLowerCase())
    )
  );
  const body = $derived({
    name: name.trim() || 'A round',
    recurrence,
    at,
    starts_on: new Date().toLocaleDateString('en-CA'),
    catch_up: `PT${hours}H`,
    machine_ids: [...chosen],
    categories: [...cleans],
    paused: false
  });

  $effect(() => {
    void api.GET('/api/v1/machines', { params: { query: { limit: 500 } } }).then(({ data }) => {
      machines = data ?? [];
      const wanted = machines.find((m) => m.tag === page.url.searchParams.get('machine'));
      if (wanted) chosen.add(wanted.id);
    });
    void api.GET('/api/v1/catalogue').then(({ data }) => {
      catalogue = (data ?? []).filter((c) => c.caution === 'safe');
    });
  });

  $effect(() => {
    // dates do not depend on machines or categories; any will do for the preview
    const asked = { ...body, machine_ids: [1], categories: ['user-temp'] };
    const timer = setTimeout(async () => {
      const { data, error } = await api.POST('/api/v1/rounds/preview', { body: asked });
      preview = data ?? null;
      problem = error ? inWords(error) : '';
    }, 200);
    return () => clearTimeout(timer);
  });

  function toggle<T>(set: SvelteSet<T>, value: T, on: boolean) {
    if (on) set.add(value);
    else set.delete(value);
  }

  async function save(event: SubmitEvent) {
    event.preventDefault();
    saving = true;
    const { error } = await api.POST('/api/v1/rounds', {
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: { ...body, name: name.trim() }
    });
    saving = false;
    if (error) problem = inWords(error);
    else await goto('/rounds');
  }
</script>

<svelte:head><title>Make a round – Phylax</title></svelte:head>

<h1>Make a round</h1>
<form class="mt-6 grid gap-8 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]" onsubmit={save}>
  <div class="space-y-6">
    <label class="field">
      <span>Name</span>
      <input class="box max-w-md" bind:value={name} required maxlength="120" />
    </label>
    <fieldset>
      <legend class="font-semibold">How often</legend>
      <div class="mt-2 flex flex-wrap items-center gap-2">
        <label class="act"
          ><input type="radio" bind:group={how} value="weekly" /> every week on</label
        >
        <select class="box w-36" bind:value={day} aria-label="Day of the week">
          {#each DAYS as [key, word] (key)}<option value={key}>{word}</option>{/each}
        </select>
      </div>
      <div class="mt-2 flex flex-wrap items-center gap-2">
        <label class="act"
          ><input type="radio" bind:group={how} value="monthly" /> every month on the</label
        >
        <input
          class="box w-20"
          type="number"
          min="1"
          max="31"
          bind:value={date}
          aria-label="Date in the month"
        />
      </div>
      <div class="mt-2 flex flex-wrap items-center gap-2">
        <label class="act"
          ><input type="radio" bind:group={how} value="rule" /> by a recurrence rule</label
        >
        <input class="box path max-w-72" bind:value={written} aria-label="Recurrence rule" />
      </div>
      <div class="mt-3 flex flex-wrap items-center gap-2">
        <label class="field"
          ><span>at</span><input class="box" type="time" bind:value={at} required /></label
        >
        <label class="field">
          <span>if the machine is off, within so many hours</span>
          <input class="box w-24" type="number" min="1" max="336" bind:value={hours} />
        </label>
      </div>
    </fieldset>
    <fieldset>
      <legend class="font-semibold">What goes</legend>
      <div class="mt-2 space-y-1">
        {#each catalogue as category (category.key)}
          <label class="flex items-baseline gap-2">
            <input
              type="checkbox"
              checked={cleans.has(category.key)}
              onchange={(e) => toggle(cleans, category.key, e.currentTarget.checked)}
            />
            <span>{category.name} <span class="muted text-sm">{category.cost}</span></span>
          </label>
        {/each}
      </div>
      <p class="muted mt-1 text-sm">
        By the rule in force on each machine. What needs a yes never goes unattended.
      </p>
    </fieldset>
    <fieldset>
      <legend class="font-semibold">Which machines ({count(chosen.size, 'machine')} chosen)</legend>
      <input
        class="box mt-2 max-w-md"
        placeholder="Filter by tag or client"
        bind:value={words}
        aria-label="Filter machines"
      />
      <div class="mt-2 max-h-72 overflow-auto border-y border-[var(--line)] py-1">
        {#each shown as machine (machine.id)}
          <label class="flex items-baseline gap-2 py-0.5">
            <input
              type="checkbox"
              checked={chosen.has(machine.id)}
              onchange={(e) => toggle(chosen, machine.id, e.currentTarget.checked)}
            />
            <span>{machine.tag} <span class="muted text-sm">{machine.client_name}</span></span>
          </label>
        {/each}
      </div>
    </fieldset>
  </div>
  <aside class="space-y-4">
    <h2>Next five dates</h2>
    {#if preview}
      <p data-testid="how-often">{preview.how_often}</p>
      <ol class="ruled" data-testid="next-dates">
        {#each preview.next_dates as next (next)}
          <li class="py-1.5">{full(next).replace(/:\d\d$/, '')}</li>
        {/each}
      </ol>
    {/if}
    {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
    <button class="act main" disabled={saving || !chosen.size || !cleans.size || !name.trim()}>
      {saving ? 'Saving…' : 'Make the round'}
    </button>
    {#if !chosen.size}<p class="muted text-sm">Choose at least one machine.</p>{/if}
  </aside>
</form>
