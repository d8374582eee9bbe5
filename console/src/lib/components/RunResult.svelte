<script lang="ts">
  import type { RunDetail } from '$lib/api/client';
  import { useCategoryNames } from '$lib/categories.svelte';
  import { inWords } from '$lib/machines/volumes';
  import { count, size } from '$lib/words';
  import RunState from './RunState.svelte';
  import When from './When.svelte';

  let { run }: { run: RunDetail } = $props();
  const nameOf = useCategoryNames();
  const chosen = $derived(inWords(run.volumes));

  const left = $derived(
    run.outcomes.flatMap((o) => o.left.map((stay) => ({ category: o.category, ...stay })))
  );
</script>

<div class="space-y-3" data-testid="result">
  <p class="flex flex-wrap items-center gap-x-3">
    <RunState state={run.state} />
    <span class="muted">
      run {run.id}, by {run.round_name ?? run.made_by}{chosen ? `, ${chosen}` : ''},
      <When at={run.ended_at} />
    </span>
    {#if run.reason}<span>{run.reason}</span>{/if}
  </p>
  {#if run.work === 'clean' && run.removed}
    <dl class="grid grid-cols-2 gap-4 sm:grid-cols-4">
      <div>
        <dt class="muted text-sm">expected</dt>
        <dd class="text-lg">{size(run.expected?.size)}</dd>
        <dd class="muted text-sm">{run.expected ? count(run.expected.count, 'item') : ''}</dd>
      </div>
      <div>
        <dt class="muted text-sm">removed</dt>
        <dd class="text-lg">{size(run.removed.size)}</dd>
        <dd class="muted text-sm">{count(run.removed.count, 'item')}</dd>
      </div>
      {#if run.held?.count}
        <div>
          <dt class="muted text-sm">held, can be put back</dt>
          <dd class="text-lg">{size(run.held.size)}</dd>
          <dd class="muted text-sm">{count(run.held.count, 'item')}</dd>
        </div>
      {/if}
      <div>
        <dt class="muted text-sm">more free, on the volume itself</dt>
        <dd class="text-lg font-semibold">{size(run.freed)}</dd>
      </div>
    </dl>
    {#if run.balance?.why.length}
      <ul class="muted list-disc pl-5 text-sm" data-testid="balance">
        {#each run.balance.why as why (why)}<li>{why}</li>{/each}
      </ul>
    {/if}
  {:else if run.work === 'put back' && run.put_back}
    <p>
      Put back <strong>{count(run.put_back.count, 'item')}</strong>, {size(run.put_back.size)}.
    </p>
  {:else if run.work === 'let go' && run.removed}
    <p>
      Deleted <strong>{count(run.removed.count, 'item')}</strong>, {size(run.removed.size)}; the
      volume shows {size(run.freed)} more free.
    </p>
  {/if}
  {#if run.uncertain}
    <p class="lookhere text-sm">
      The machine itself stopped in the middle; the total may miss the last second.
    </p>
  {/if}
  {#if left.length}
    <details open={run.state === 'partly'}>
      <summary class="cursor-pointer">What was left, and why</summary>
      <ul class="mt-2 space-y-1">
        {#each left as stay (stay.category + stay.reason)}
          <li>
            {nameOf(stay.category)}: {count(stay.count, 'item')}, {size(stay.size)} –
            {stay.reason}
          </li>
        {/each}
      </ul>
      {#if run.left.length}
        <ul class="muted mt-2 space-y-0.5 text-sm">
          {#each run.left.slice(0, 30) as item (item.place + item.path)}
            <li><span class="path break-all">{item.place} › {item.path}</span> – {item.reason}</li>
          {/each}
        </ul>
      {/if}
    </details>
  {/if}
</div>
