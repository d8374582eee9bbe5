<script lang="ts">
  import { page } from '$app/state';
  import { replaceState } from '$app/navigation';
  import { createQuery } from '@tanstack/svelte-query';
  import { api, type Schema } from '$lib/api/client';
  import { Doing } from '$lib/api/doing.svelte';
  import { ask, refresh } from '$lib/api/queries';
  import ClientBox from '$lib/components/ClientBox.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import Outcome from '$lib/components/Outcome.svelte';
  import When from '$lib/components/When.svelte';
  import { useMay } from '$lib/session';

  const may = useMay();
  const doing = new Doing();
  let chosen = $state(page.url.searchParams.get('client') ?? '');
  const client = $derived(Number(chosen) || 0);
  $effect(() => {
    if (chosen !== (page.url.searchParams.get('client') ?? ''))
      replaceState(chosen ? `?client=${chosen}` : page.url.pathname, {});
  });
  const asked = createQuery(() => ({
    ...ask('/api/v2/answers/{scope}/{subject_id}', {
      params: { path: { scope: 'client', subject_id: client } }
    }),
    enabled: client > 0
  }));

  async function answer(question: string, answer: 'yes' | 'no' | null) {
    const path = { scope: 'client' as const, subject_id: client, question };
    await doing.try(() =>
      api.PUT('/api/v2/answers/{scope}/{subject_id}/{question}', {
        params: { path },
        body: { answer, comment: '' }
      })
    );
    await refresh('/api/v2/answers/{scope}/{subject_id}', '/api/v2/machines/{machine}/programs');
  }
  const said = (entry: Schema['AnsweredQuestion'], answer: 'yes' | 'no') =>
    entry.answer?.answer === answer;
</script>

<svelte:head><title>Questions – Phylax</title></svelte:head>

<h1>Questions</h1>
<p class="muted mt-1">
  What a client says decides about groups of settings. As long as there is no answer, nothing that
  hangs on it changes. A machine can have an answer of its own.
</p>
<div class="mt-4 max-w-sm"><ClientBox bind:value={chosen} label="Client" /></div>
{#if client > 0}
  {#if asked.data}
    <Outcome of={doing} />
    <ul class="ruled mt-4" data-testid="questions">
      {#each asked.data as entry (entry.question.key)}
        <li class="flex flex-wrap items-center justify-between gap-x-6 gap-y-2 py-3">
          <span class="max-w-prose">
            {entry.question.text}
            <span class="muted block text-sm">
              {#if entry.answer}{entry.answer.answer}, noted by {entry.answer.who},
                <When at={entry.answer.at} />{entry.answer.comment
                  ? `: ${entry.answer.comment}`
                  : ''}{:else}no answer yet{/if}
            </span>
          </span>
          {#if may.work}
            <span class="noprint flex flex-wrap gap-2">
              {#each ['yes', 'no'] as const as word (word)}
                <button
                  class="act"
                  aria-pressed={said(entry, word)}
                  disabled={doing.busy}
                  aria-label="{word === 'yes' ? 'Yes' : 'No'}: {entry.question.text}"
                  onclick={() => answer(entry.question.key, said(entry, word) ? null : word)}
                  >{word === 'yes' ? 'Yes' : 'No'}</button
                >
              {/each}
            </span>
          {/if}
        </li>
      {/each}
    </ul>
  {:else}<Failed query={asked} />{/if}
{:else}
  <p class="mt-4">Choose a client to see what was asked and what is still to ask.</p>
{/if}
