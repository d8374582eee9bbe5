<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask, refresh } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { useMe } from '$lib/session';
  import { goto } from '$app/navigation';
  import { api, inWords, type Routine } from '$lib/api/client';

  const asked = createQuery(() => ask('/api/v2/routines'));
  const routines = $derived<Routine[] | null>(asked.data ?? null);
  const me = useMe();
  const role = $derived(me.data?.role ?? 'desk');
  let problem = $state('');

  async function copy(routine: Routine) {
    const { data, error } = await api.POST('/api/v2/routines', {
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: { name: `${routine.name}, ours`, note: routine.note, steps: routine.steps }
    });
    if (data) {
      await refresh('/api/v2/routines');
      await goto(`/routines/${data.id}`);
    } else problem = inWords(error);
  }
  const told = (step: Routine['steps'][number]) =>
    step.title ||
    (step.kind === 'clean' ? `clean ${step.categories.length} categories` : step.kind);
</script>

<svelte:head><title>Routines – Phylax</title></svelte:head>

<h1><Term of="routine">Routines</Term></h1>
<p class="muted mt-1">
  Lists of steps, done by the agent or by hand on the bench. Rounds repeat them.
</p>
{#if problem}<p class="lossy mt-4" role="alert">{problem}</p>{/if}
{#if !routines}<Failed query={asked} />{/if}
<ul class="ruled mt-4" data-testid="routines">
  {#each routines ?? [] as routine (routine.id)}
    <li class="flex flex-wrap items-start justify-between gap-4 py-4">
      <div class="max-w-3xl">
        <h2>{routine.name}</h2>
        <p class="muted text-sm">
          {routine.shipped
            ? 'came with Phylax'
            : `version ${routine.version}, by ${routine.changed_by}`}
        </p>
        <p class="mt-1">{routine.note}</p>
        <ol class="mt-2 flex flex-wrap gap-x-2 text-sm">
          {#each routine.steps as step, n (n)}
            <li>
              {n ? '→ ' : ''}{told(step)}
            </li>
          {/each}
        </ol>
      </div>
      {#if role !== 'desk'}
        <div class="flex gap-2">
          {#if !routine.shipped}<a class="act" href="/routines/{routine.id}">Change</a>{/if}
          <button class="act" onclick={() => copy(routine)}>Copy to change it</button>
        </div>
      {/if}
    </li>
  {/each}
</ul>
