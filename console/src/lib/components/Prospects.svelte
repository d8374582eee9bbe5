<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import type { Machine, Outlook } from '$lib/api/client';
  import { count, crossing, day, signed, size } from '$lib/words';

  let { machine, outlook }: { machine: Machine; outlook: Outlook | null } = $props();
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/regrowth', { params: { path: { machine: machine.tag } } })
  );
  const regrowth = $derived(asked.data ?? []);
</script>

<div class="mt-4 grid gap-8 lg:grid-cols-2" data-testid="prospects">
  <div>
    <h3 class="font-semibold"><Term of="outlook">Forecast</Term></h3>
    {#if !outlook}
      <p class="muted mt-1">No forecast yet: it needs a week of readings.</p>
    {:else if outlook.not_yet}
      <p class="muted mt-1">Nothing can be said yet: {outlook.not_yet}.</p>
    {:else}
      <dl class="mt-1 grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1">
        {#if outlook.fill_rate}
          <dt class="muted">fills by</dt>
          <dd>
            {signed(outlook.fill_rate.likely)} a day
            <span class="muted"
              >({signed(outlook.fill_rate.low)} to {signed(
                outlook.fill_rate.high
              )}){#if outlook.cleaned_every_days}, between cleanings{/if}</span
            >
          </dd>
        {/if}
        {#if outlook.cleaned_every_days}
          <dt class="muted">a cleaning</dt>
          <dd>
            gives {size(outlook.freed_each)} back, every {Math.round(outlook.cleaned_every_days)} days
          </dd>
        {/if}
        <dt class="muted">over {outlook.threshold_percent} %</dt>
        <dd>
          {#if outlook.over}<span class="lookhere"
              >already{#if outlook.over_since}, since {day(outlook.over_since)}{/if}</span
            >{:else}{crossing(outlook.crosses ?? null)}{/if}
        </dd>
        <dt class="muted">full</dt>
        <dd>{crossing(outlook.full ?? null)}</dd>
        {#if outlook.changed}
          <dt class="muted">since {day(outlook.changed.since)}</dt>
          <dd>
            {signed(outlook.changed.now)} a day instead of {signed(
              outlook.changed.before
            )}{#if outlook.changed.grown.length}; what grew: {outlook.changed.grown
                .map((g) => `${g.name} by ${size(g.size)}`)
                .join(', ')}{/if}
          </dd>
        {/if}
        {#each outlook.sudden as one (one.at)}
          <dt class="muted">sudden, {day(one.at)}</dt>
          <dd>
            {signed(one.size)}{#if one.grown.length}: {one.grown
                .map((g) => `${g.name} ${signed(g.size)}`)
                .join(', ')}{:else if !one.looked}
              <span class="muted">(nobody looked before and after)</span>{/if}
          </dd>
        {/each}
      </dl>
      {#if outlook.advice}
        <p class="mt-3"><strong>Advice:</strong> {outlook.advice.text}</p>
      {/if}
    {/if}
  </div>
  {#if regrowth.length}
    <div>
      <h3 class="font-semibold">What comes back after a cleaning</h3>
      <table class="sheet mt-1">
        <caption class="sr-only">What comes back after a cleaning</caption>
        <thead>
          <tr
            ><th scope="col">category</th><th scope="col" class="right">a day</th><th
              scope="col"
              class="right">a cleaning takes</th
            ><th scope="col" class="right">back after</th></tr
          >
        </thead>
        <tbody>
          {#each regrowth.slice(0, 6) as one (one.category)}
            <tr title="from {count(one.cleanings, 'cleaning')}">
              <td>{one.name}</td>
              <td class="right whitespace-nowrap">{size(one.rate.likely)}</td>
              <td class="right whitespace-nowrap">{size(one.removed)}</td>
              <td class="right whitespace-nowrap"
                >{one.back_in_days ? count(one.back_in_days, 'day') : '–'}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
</div>
