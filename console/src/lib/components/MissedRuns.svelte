<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { api, inWords, type Run } from '$lib/api/client';
  import RunState from '$lib/components/RunState.svelte';
  import When from '$lib/components/When.svelte';
  import { count } from '$lib/words';
  import { SvelteSet } from 'svelte/reactivity';

  let { mayChange = true }: { mayChange?: boolean } = $props();
  const DAYS = 14;
  const since = new Date(Date.now() - DAYS * 86_400_000).toISOString();
  const asked = createQuery(() =>
    ask('/api/v2/runs', { params: { query: { missed_since: since, limit: 100 } } })
  );
  const missed = $derived<Run[] | null>(asked.data ?? null);
  let problem = $state('');
  let told = $state('');
  const chosen = new SvelteSet<number>();

  async function again() {
    const { data, error } = await api.POST('/api/v2/runs/again', {
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: { run_ids: [...chosen] }
    });
    problem = error ? inWords(error) : '';
    if (!data) return;
    told = `${count(data.runs.length, 'run')} made; each begins when its machine calls.`;
    chosen.clear();
  }
</script>

{#if problem}<p class="lossy mt-4" role="alert">{problem}</p>{/if}
{#if !missed}<Failed query={asked} />{/if}
{#if told}<p class="mt-4" role="status">{told}</p>{/if}
{#if missed && !missed.length}
  <p class="mt-6">Nothing was missed in the last {DAYS} days.</p>
{:else if missed}
  {#if mayChange}
    <button class="act mt-4" disabled={!chosen.size} onclick={again}
      >Do {count(chosen.size, 'chosen run')} now</button
    >
  {/if}
  <div class="mt-2 overflow-x-auto">
    <table class="sheet" data-testid="missed">
      <caption class="sr-only">Missed runs</caption>
      <thead>
        <tr
          ><th scope="col"><span class="sr-only">choose</span></th><th scope="col">machine</th><th
            scope="col">round</th
          ><th scope="col">was due</th><th scope="col">state</th><th scope="col">why</th></tr
        >
      </thead>
      <tbody>
        {#each missed as run (run.id)}
          <tr>
            <td>
              <input
                type="checkbox"
                aria-label="Choose {run.machine_tag}, run {run.id}"
                checked={chosen.has(run.id)}
                onchange={(e) =>
                  e.currentTarget.checked ? chosen.add(run.id) : chosen.delete(run.id)}
              />
            </td>
            <td class="whitespace-nowrap"
              ><a class="anchor" href="/machines/{run.machine_tag}">{run.machine_tag}</a>
              <span class="muted text-sm">{run.client_name}</span></td
            >
            <td>{run.round_name ?? run.made_by}</td>
            <td class="whitespace-nowrap"><When at={run.occurs_at ?? run.due_at} /></td>
            <td><RunState state={run.state} /></td>
            <td>{run.reason}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
