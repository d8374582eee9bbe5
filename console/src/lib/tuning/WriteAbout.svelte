<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { answerOf, ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { Draft } from '$lib/drafts.svelte';
  import { count } from '$lib/words';
  import { untrack } from 'svelte';

  type Program = Schema['Program'];
  interface Props {
    program: Program;
    /** On which it was seen: its questions are offered. */
    machineId: number;
    onwritten: () => void;
  }
  let { program, machineId, onwritten }: Props = $props();
  const INTENTS = ['from the start', 'may wait', 'when asked', 'not at all'] as const;

  const doing = new Doing();
  const draft = untrack(
    () =>
      new Draft(`about:${program.key}`, {
        what: program.what ?? '',
        stays: true,
        intent: 'when asked',
        question: '',
        on: 'no'
      })
  );
  const fields = draft.fields;
  const questionsAsked = createQuery(() =>
    ask('/api/v1/answers/{scope}/{subject_id}', {
      params: { path: { scope: 'machine', subject_id: machineId } }
    })
  );

  /** By what it is told: its package, who signed it and where it lies, or its very file. */
  const recognition = $derived<Schema['Recognition']>(
    program.package
      ? { package: program.package, signed_by: '', path: '', digest: '' }
      : program.signed_by && program.path
        ? { package: '', signed_by: program.signed_by, path: program.path, digest: '' }
        : { package: '', signed_by: '', path: '', digest: program.digest ?? '' }
  );
  const edit = $derived<Schema['KnownEdit']>({
    recognition,
    systems: [],
    name: program.name,
    what: fields.what.trim(),
    handling: fields.stays ? 'stays' : fields.question ? 'hangs on a question' : 'goes',
    intent: fields.stays ? null : (fields.intent as Schema['Intent']),
    hangs:
      fields.stays || !fields.question
        ? null
        : { question: fields.question, on: fields.on as 'yes' | 'no' }
  });
  const whatIfAsked = createQuery(() => ({
    queryKey: ['/api/v1/known-programs/what-if', edit] as const,
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      answerOf<Schema['WhatIfLine'][]>(
        api.POST('/api/v1/known-programs/what-if', { body: edit, signal })
      ),
    placeholderData: keepPreviousData
  }));

  async function write(event: SubmitEvent) {
    event.preventDefault();
    const call = () =>
      api.POST('/api/v1/known-programs', {
        headers: { 'Idempotency-Key': crypto.randomUUID() },
        body: edit
      });
    if (await doing.try(call)) {
      draft.reset();
      onwritten();
    }
  }
</script>

<form class="space-y-4" onsubmit={write}>
  <p class="muted text-sm">
    Recognised by
    {#if recognition.package}its package <code>{recognition.package}</code>
    {:else if recognition.signed_by}<code class="break-all">{recognition.path}</code>, signed by
      {recognition.signed_by}
    {:else}its very file; a newer one is judged anew{/if}. It counts for all machines.
  </p>
  <label class="field">
    <span>What it is, in a sentence a client understands</span>
    <input class="box" bind:value={fields.what} maxlength="500" />
  </label>
  <fieldset class="flex flex-wrap items-end gap-4">
    <legend class="sr-only">What becomes of it</legend>
    <label class="flex items-center gap-2">
      <input type="radio" name="handling" value={true} bind:group={fields.stays} /> It stays
    </label>
    <label class="flex items-center gap-2">
      <input type="radio" name="handling" value={false} bind:group={fields.stays} /> It is to run
    </label>
    {#if !fields.stays}
      <label class="field">
        <span class="sr-only">When it is to run</span>
        <select class="box" bind:value={fields.intent}>
          {#each INTENTS as intent (intent)}<option>{intent}</option>{/each}
        </select>
      </label>
      <label class="field">
        <span>If the client says</span>
        <select class="box" bind:value={fields.question}>
          <option value="">it does not hang on anything</option>
          {#each questionsAsked.data ?? [] as asked (asked.question.key)}
            <option value={asked.question.key}>{asked.question.words}</option>
          {/each}
        </select>
      </label>
      {#if fields.question}
        <label class="field">
          <span class="sr-only">Which answer</span>
          <select class="box" bind:value={fields.on}><option>no</option><option>yes</option></select
          >
        </label>
      {/if}
    {/if}
  </fieldset>
  <div data-testid="what-if" role="status">
    {#if whatIfAsked.data}
      {#each whatIfAsked.data as line (line.program)}
        <p>
          Changes on <strong>{count(line.changes_on?.length ?? 0, 'machine')}</strong
          >{line.needs_yes
            ? ', each with a yes'
            : ''}{#each Object.entries(line.stays_on ?? {}) as [reason, ids] (reason)}; stays on {ids.length}
            ({reason}){/each}.
        </p>
      {:else}
        <p class="muted">It is on no machine any more.</p>
      {/each}
    {:else}<Failed query={whatIfAsked} />{/if}
  </div>
  <Outcome of={doing} />
  <div class="flex justify-end">
    <button class="act main" disabled={doing.busy}>Write it down</button>
  </div>
</form>
