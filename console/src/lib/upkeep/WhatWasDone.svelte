<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { RunDetail } from '$lib/api/client';
  import { ask } from '$lib/api/queries';

  let { run }: { run: RunDetail } = $props();
  const path = $derived({ params: { path: { run_id: run.id } } });
  const compares = $derived(run.steps.some((step) => step.kind === 'compare'));
  const actedAsked = createQuery(() => ask('/api/v2/runs/{run_id}/acted', path));
  const comparisonAsked = createQuery(() => ({
    ...ask('/api/v2/runs/{run_id}/comparison', path),
    enabled: compares
  }));
  const parts = $derived(actedAsked.data ?? []);
  const comparison = $derived(comparisonAsked.data);
</script>

{#if parts.length}
  <section class="mt-6" aria-labelledby="acted">
    <h2 id="acted">What was done</h2>
    <ul class="ruled mt-1" data-testid="acted">
      {#each parts as part, n (n)}
        <li class="py-2">
          {#if part.target}<strong>{part.target}</strong>{/if}
          <span class:lookhere={part.end === 'failed' || part.end === 'refused'}>
            {#if part.end === 'done'}{part.before
                ? `${part.before}, now ${part.after}`
                : part.after || 'done'}{:else}{part.end}{/if}
          </span>
          {#if part.why || part.needs_restart}
            <span class="muted block text-sm">
              {[part.why, part.needs_restart ? 'takes effect after a restart' : '']
                .filter(Boolean)
                .join('; ')}
            </span>
          {/if}
        </li>
      {/each}
    </ul>
  </section>
{/if}
{#if comparison?.after}
  <section class="mt-6" aria-labelledby="compared">
    <h2 id="compared">Before and after</h2>
    {#if comparison.differences?.length}
      <div class="overflow-x-auto">
        <table class="sheet mt-1" data-testid="comparison">
          <caption class="sr-only">Before and after</caption>
          <thead>
            <tr><th scope="col">What</th><th scope="col">Before</th><th scope="col">After</th></tr>
          </thead>
          <tbody>
            {#each comparison.differences as difference, n (n)}
              <tr>
                <th scope="row">{difference.what}</th>
                <td>{difference.before}</td>
                <td
                  >{difference.after}{#if difference.worse}
                    <span class="lookhere">worse</span>{/if}</td
                >
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="mt-1">Nothing is otherwise.</p>
    {/if}
    <p class="muted mt-1 text-sm">
      {comparison.restarted
        ? 'It was restarted in between.'
        : 'It was not restarted in between: how soon it can be used is not known anew.'}
    </p>
  </section>
{/if}
