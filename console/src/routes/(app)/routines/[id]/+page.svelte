<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { useCategoryNames } from '$lib/categories.svelte';
  import Conflict from '$lib/components/Conflict.svelte';
  import { changedMeanwhile, type Changed } from '$lib/conflict';
  import { keepDraft, keptDraft } from '$lib/drafts.svelte';
  import { untrack } from 'svelte';
  import { page } from '$app/state';
  import { api, inWords, type Routine, type Schema } from '$lib/api/client';
  import ArrowDown from '@lucide/svelte/icons/arrow-down';
  import ArrowUp from '@lucide/svelte/icons/arrow-up';
  import X from '@lucide/svelte/icons/x';

  type Step = Schema['RoutineStep'];
  const KINDS = [
    'survey',
    'check',
    'quick scan',
    'clean',
    'second look',
    'full scan',
    'update',
    'tune',
    'arrange',
    'restart',
    'compare',
    'by hand'
  ] as const;
  const id = $derived(Number(page.params.id));
  const asked = createQuery(() =>
    ask('/api/v2/routines/{routine_id}', { params: { path: { routine_id: id } } })
  );
  const catalogueAsked = createQuery(() => ask('/api/v2/catalogue'));
  const catalogue = $derived(
    (catalogueAsked.data ?? []).filter((category) => category.caution !== 'report')
  );
  let routine = $state<Routine | null>(null);
  let name = $state('');
  let note = $state('');
  let steps = $state<Step[]>([]);
  let kind = $state<Step['kind']>('by hand');
  let problem = $state('');
  let told = $state<string[]>([]);
  let saved = $state(false);
  let saving = $state(false);
  /** The version that what is typed is about. */
  let version = $state(0);
  let conflict = $state<Changed<Routine> | null>(null);
  const nameOf = useCategoryNames();

  type Kept = { version: number; name: string; note: string; steps: Step[] };
  const copied = (steps: readonly Step[]) =>
    steps.map((step) => ({ ...step, categories: [...step.categories] }));
  function take(current: Routine) {
    const kept = keptDraft(`routine:${id}`) as Kept | null;
    // about an earlier version it stays so, and both are shown when it is saved
    const typed = kept ?? current;
    version = typed.version;
    routine = current;
    name = typed.name;
    note = typed.note;
    steps = copied(typed.steps);
    conflict = null;
  }
  // by its number: what somebody is typing is not lost to another version of the same
  const whose = $derived(asked.data?.id ?? 0);
  $effect(() => {
    if (whose && untrack(() => routine?.id) !== whose) untrack(() => take(asked.data!));
  });
  $effect(() => {
    if (!routine) return;
    const typed = JSON.stringify({ name, note, steps });
    const { name: n, note: o, steps: s } = routine;
    const isSame = typed === JSON.stringify({ name: n, note: o, steps: s });
    keepDraft(`routine:${id}`, isSame ? null : { version, ...(JSON.parse(typed) as object) });
  });
  const inFields = (of: { name: string; note?: string; steps: readonly Step[] }) => ({
    name: of.name,
    'what it is for': of.note ?? '',
    steps: of.steps
      .map((step, n) => {
        const what = step.title || step.kind;
        return `${n + 1} ${what}${step.categories.length ? `: ${step.categories.map(nameOf).join(', ')}` : ''}`;
      })
      .join('; ')
  });

  function move(from: number, to: number) {
    const [step] = steps.splice(from, 1);
    if (step) steps.splice(to, 0, step);
  }
  function add() {
    steps.push({
      kind,
      categories: kind === 'clean' ? ['user-temp'] : [],
      title: kind === 'by hand' ? 'What is to be done' : '',
      text: ''
    });
  }
  function toggle(step: Step, key: string, on: boolean) {
    step.categories = on ? [...step.categories, key] : step.categories.filter((k) => k !== key);
  }
  async function save(event: SubmitEvent) {
    event.preventDefault();
    if (routine) await put(version);
  }
  async function put(over: number) {
    saving = true;
    const { data, error } = await api.PUT('/api/v2/routines/{routine_id}', {
      params: { path: { routine_id: id } },
      headers: { 'If-Match': `"${over}"` },
      body: { name: name.trim(), note, steps }
    });
    saving = false;
    conflict = changedMeanwhile<Routine>(error);
    problem = error && !conflict ? inWords(error) : '';
    saved = Boolean(data);
    told = data ? [...data.put_right] : [];
    if (data) {
      keepDraft(`routine:${id}`, null);
      take(data);
      await refresh('/api/v2/routines', '/api/v2/routines/{routine_id}');
    }
  }
</script>

<svelte:head><title>{routine?.name ?? 'Routine'} – Phylax</title></svelte:head>

<p><a class="anchor" href="/routines">All routines</a></p>
<h1>{routine?.name ?? 'Routine'}</h1>
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
{#if !routine}<Failed query={asked} />{/if}
{#if saved}
  <div role="status" class="mt-2">
    <p>Saved as version {routine?.version}. What already runs finishes with its own.</p>
    {#each told as said (said)}<p class="lookhere">Corrected: {said}.</p>{/each}
  </div>
{/if}
{#if routine}
  <form class="mt-4 max-w-3xl space-y-5" onsubmit={save}>
    <label class="field"
      ><span>Name</span><input class="box" bind:value={name} required maxlength="120" /></label
    >
    <label class="field"
      ><span>What it is for</span><input class="box" bind:value={note} maxlength="2000" /></label
    >
    <ol class="ruled">
      {#each steps as step, n (step)}
        <li class="py-3">
          <div class="flex items-center gap-2">
            <span class="font-semibold">{n + 1}. {step.kind}</span>
            <span class="ml-auto flex gap-1">
              <button
                type="button"
                class="act"
                disabled={!n}
                aria-label="Move step {n + 1} up"
                onclick={() => move(n, n - 1)}><ArrowUp aria-hidden="true" size={15} /></button
              >
              <button
                type="button"
                class="act"
                disabled={n === steps.length - 1}
                aria-label="Move step {n + 1} down"
                onclick={() => move(n, n + 1)}><ArrowDown aria-hidden="true" size={15} /></button
              >
              <button
                type="button"
                class="act"
                aria-label="Remove step {n + 1}"
                onclick={() => steps.splice(n, 1)}><X aria-hidden="true" size={15} /></button
              >
            </span>
          </div>
          {#if step.kind === 'by hand'}
            <input
              class="box mt-2"
              bind:value={step.title}
              required
              maxlength="120"
              aria-label="What is to be done"
            />
            <textarea
              class="box mt-2"
              rows="2"
              bind:value={step.text}
              maxlength="2000"
              aria-label="How"></textarea>
          {:else if step.kind === 'clean'}
            <div class="mt-2 grid gap-x-4 sm:grid-cols-2">
              {#each catalogue as category (category.key)}
                <label class="flex items-baseline gap-2">
                  <input
                    type="checkbox"
                    checked={step.categories.includes(category.key)}
                    onchange={(e) => toggle(step, category.key, e.currentTarget.checked)}
                  />
                  <span
                    >{category.name}{#if category.caution === 'ask'}<span class="muted text-sm">
                        needs approval</span
                      >{/if}</span
                  >
                </label>
              {/each}
            </div>
          {/if}
        </li>
      {/each}
    </ol>
    <div class="flex flex-wrap items-end gap-2">
      <label class="field">
        <span>Add a step</span>
        <select class="box w-44" bind:value={kind}>
          {#each KINDS as one (one)}<option value={one}>{one}</option>{/each}
        </select>
      </label>
      <button type="button" class="act" onclick={add}>Add it</button>
      <button
        class="act main ml-auto"
        disabled={!name.trim() || !steps.length || saving || conflict !== null}
        >Save a new version</button
      >
    </div>
    {#if conflict}
      <Conflict
        changed={conflict}
        ours={inFields({ name, note, steps })}
        theirs={inFields(conflict.current)}
        onours={() => void put(conflict!.current.version)}
        ontheirs={() => {
          keepDraft(`routine:${id}`, null);
          take(conflict!.current);
        }}
      />
    {/if}
  </form>
{/if}
