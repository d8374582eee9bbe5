<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { answerOf, ask } from '$lib/api/queries';
  import { changedMeanwhile, type Changed } from '$lib/conflict';
  import Conflict from '$lib/components/Conflict.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import { Draft } from '$lib/drafts.svelte';
  import { untrack } from 'svelte';
  import { lineInWords } from './whatIf';

  /** What tells a program from others. */
  type Program = Pick<
    Schema['Program'],
    'key' | 'name' | 'description' | 'package' | 'signed_by' | 'path' | 'digest'
  >;
  interface Props {
    program: Program;
    /** The entry that is written anew; left out for a new one. */
    entry?: Schema['KnownProgram'];
    onwritten: () => void;
  }
  let { program, entry, onwritten }: Props = $props();
  const INTENTS = ['at start', 'after start', 'on demand', 'off'] as const;

  const doing = new Doing();
  const draft = untrack(
    () =>
      new Draft(`about:${program.key}`, {
        description: program.description ?? '',
        stays: entry ? entry.edit.handling === 'stays' : true,
        intent: entry?.edit.intent ?? 'on demand',
        question: entry?.edit.depends_on?.question ?? '',
        on: entry?.edit.depends_on?.on ?? 'no'
      })
  );
  const fields = draft.fields;
  const questionsAsked = createQuery(() => ask('/api/v2/questions'));
  /** Over which version it is saved: another's is shown first. */
  let version = $state(untrack(() => entry?.version ?? 0));
  let conflict = $state<Changed<Schema['KnownProgram']> | null>(null);

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
    systems: entry?.edit.systems ?? [],
    name: program.name,
    description: fields.description.trim(),
    handling: fields.stays ? 'stays' : fields.question ? 'hangs on a question' : 'goes',
    intent: fields.stays ? null : (fields.intent as Schema['Intent']),
    depends_on:
      fields.stays || !fields.question
        ? null
        : { question: fields.question, on: fields.on as 'yes' | 'no' }
  });
  const whatIfAsked = createQuery(() => ({
    queryKey: ['/api/v2/known-programs/what-if', edit, entry?.id] as const,
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      answerOf<Schema['WhatIfLine'][]>(
        api.POST('/api/v2/known-programs/what-if', {
          params: { query: { number: entry?.id } },
          body: edit,
          signal
        })
      ),
    placeholderData: keepPreviousData
  }));

  async function save() {
    const call = async () => {
      if (!entry)
        return api.POST('/api/v2/known-programs', {
          headers: { 'Idempotency-Key': crypto.randomUUID() },
          body: edit
        });
      const reply = await api.PUT('/api/v2/known-programs/{number}', {
        params: { path: { number: entry.id } },
        headers: { 'If-Match': `"${version}"` },
        body: edit
      });
      conflict = changedMeanwhile(reply.error);
      return reply;
    };
    if (await doing.try(call)) {
      draft.reset();
      onwritten();
    }
  }
  function write(event: SubmitEvent) {
    event.preventDefault();
    void save();
  }
  const inWords = ({
    description: what,
    handling,
    intent,
    depends_on: hangs
  }: Schema['KnownEdit']) => ({
    'what it is': what ?? '',
    'what becomes of it': [handling, intent, hangs && `${hangs.question}: ${hangs.on}`]
      .filter(Boolean)
      .join(', ')
  });
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
    <input class="box" bind:value={fields.description} maxlength="500" />
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
          {#each questionsAsked.data ?? [] as question (question.key)}
            <option value={question.key}>{question.text}</option>
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
        <p>With it: <strong>{lineInWords(line)}</strong>.</p>
      {:else}
        <p class="muted">It is on no machine any more.</p>
      {/each}
    {:else}<Failed query={whatIfAsked} />{/if}
  </div>
  {#if conflict}
    {@const { current } = conflict}
    <Conflict
      changed={conflict}
      ours={inWords(edit)}
      theirs={inWords(current.edit)}
      onours={() => {
        version = current.version;
        void save();
      }}
      ontheirs={() => {
        draft.reset();
        onwritten();
      }}
    />
  {:else}<Outcome of={doing} />{/if}
  <div class="flex justify-end">
    <button class="act main" disabled={doing.busy || conflict !== null}>Write it down</button>
  </div>
</form>
