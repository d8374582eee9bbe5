<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import type { VolumeProspect } from '$lib/api/client';
  import { count, day, share, size, stretch } from '$lib/words';

  const asked = createQuery(() => ask('/api/v2/trends'));
  const trends = $derived(asked.data ?? null);
  let asTable = $state(false);

  const days = (one: VolumeProspect) =>
    one.crosses?.likely ? (Date.parse(one.crosses.likely) - Date.now()) / 86_400_000 : 9999;
  const groups = $derived(
    trends
      ? [
          { name: 'Over already', volumes: trends.over },
          { name: 'Within 7 days', volumes: trends.crossing.filter((v) => days(v) <= 7) },
          {
            name: 'Within 30 days',
            volumes: trends.crossing.filter((v) => days(v) > 7 && days(v) <= 30)
          },
          { name: 'Within 90 days', volumes: trends.crossing.filter((v) => days(v) > 30) }
        ]
      : []
  );
  const most = $derived(Math.max(1, ...(trends?.weeks.map((w) => w.size) ?? [])));
  const costliest = $derived(Math.max(1, trends?.costliest[0]?.size ?? 1));
  const monday = (text: string) => day(`${text}T12:00:00Z`);
</script>

<svelte:head><title>Trends – Phylax</title></svelte:head>

<h1>Trends</h1>
{#if !trends}
  <div class="mt-4"><Failed query={asked} /></div>
{:else}
  <section class="mt-6" aria-labelledby="over">
    <h2 id="over">Volumes that will pass their <Term of="threshold" /></h2>
    <table class="sheet mt-2" data-testid="crossing">
      <caption class="sr-only">Volumes over their threshold soonest</caption>
      <thead>
        <tr>
          <th scope="col">machine</th><th scope="col" class="hidden sm:table-cell">client</th><th
            scope="col"
            class="right">used</th
          ><th scope="col">when</th><th scope="col" class="hidden md:table-cell"
            >what to do about it</th
          >
        </tr>
      </thead>
      {#each groups as group (group.name)}
        {#if group.volumes.length}
          <tbody>
            <tr><th colspan="5" scope="rowgroup">{group.name}</th></tr>
            {#each group.volumes as one (one.machine_id + one.mount)}
              <tr>
                <td class="md:whitespace-nowrap">
                  <a class="anchor" href="/machines/{one.machine_tag}#trend">{one.machine_tag}</a>
                  <code>{one.mount}</code>
                </td>
                <td class="hidden sm:table-cell">{one.client_name}</td>
                <td class="right whitespace-nowrap"
                  >{share(one.capacity - one.free, one.capacity)}</td
                >
                <td class="whitespace-nowrap">
                  {#if one.over}over {one.threshold_percent} %{#if one.full?.likely}<span
                        class="muted block text-sm">full {day(one.full.likely)}</span
                      >{/if}
                  {:else}{day(one.crosses?.likely)}
                    {#if day(one.crosses?.soonest) !== day(one.crosses?.latest)}
                      <span class="muted block text-sm"
                        >{day(one.crosses?.soonest)} to {one.crosses?.latest
                          ? day(one.crosses.latest)
                          : 'much later'}</span
                      >{/if}{/if}
                </td>
                <td class="hidden max-w-prose text-sm md:table-cell">{one.advice?.text ?? ''}</td>
              </tr>
              {#if one.advice}
                <tr class="md:hidden"><td colspan="5" class="text-sm">{one.advice.text}</td></tr>
              {/if}
            {/each}
          </tbody>
        {/if}
      {/each}
    </table>
    {#if !trends.over.length && !trends.crossing.length}
      <p class="mt-2">No volume will be over its threshold within 90 days.</p>
    {/if}
  </section>

  <div class="mt-10 grid gap-10 lg:grid-cols-2">
    <section aria-labelledby="freed">
      <div class="flex items-baseline justify-between gap-2">
        <h2 id="freed">Freed by week</h2>
        <button class="plain noprint text-sm" onclick={() => (asTable = !asTable)}>
          {asTable ? 'Show as a chart' : 'Show as a table'}
        </button>
      </div>
      {#if asTable}
        <table class="sheet mt-2">
          <caption class="sr-only">Freed by week</caption>
          <thead
            ><tr><th scope="col">week of</th><th scope="col" class="right">freed</th></tr></thead
          >
          <tbody>
            {#each trends.weeks.toReversed() as week (week.monday)}
              <tr><td>{monday(week.monday)}</td><td class="right">{size(week.size)}</td></tr>
            {/each}
          </tbody>
        </table>
      {:else}
        <div
          class="weeks mt-2"
          role="img"
          aria-label="Freed in each of {trends.weeks.length} weeks, at most {size(most)}"
        >
          {#each trends.weeks as week (week.monday)}
            <span
              style:height="{(100 * week.size) / most}%"
              title="week of {monday(week.monday)}: {size(week.size)}"
            ></span>
          {/each}
        </div>
        <p class="muted flex justify-between text-sm">
          <span>{monday(trends.weeks[0]!.monday)}</span><span>at most {size(most)}</span><span
            >this week</span
          >
        </p>
      {/if}
    </section>
    <section aria-labelledby="cost">
      <h2 id="cost">What costs the most</h2>
      <p class="muted text-sm">What came back and was freed again, over these weeks.</p>
      <ul class="mt-2 space-y-2">
        {#each trends.costliest.slice(0, 8) as one (one.category)}
          <li>
            <p class="flex justify-between gap-4">
              <span>{one.name}</span><span>{size(one.size)}</span>
            </p>
            <div class="line"><span style:width="{(100 * one.size) / costliest}%"></span></div>
          </li>
        {:else}
          <li class="muted">Nothing was freed yet.</li>
        {/each}
      </ul>
    </section>
    <section aria-labelledby="often">
      <h2 id="often">How often volumes are cleaned</h2>
      <ul class="ruled mt-2">
        {#each Object.entries(trends.advised).toSorted((a, b) => b[1] - a[1]) as [verdict, number] (verdict)}
          <li class="flex justify-between py-1.5">
            <span>{verdict}</span><span>{count(number, 'volume')}</span>
          </li>
        {/each}
      </ul>
    </section>
    <section aria-labelledby="changes">
      <h2 id="changes">What changes achieved</h2>
      <ul class="ruled mt-2">
        {#each trends.changes as one (one.at + one.name + one.about)}
          <li class="py-2">
            <p>
              <strong>{one.name}</strong>, {one.about}
              <span class="muted text-sm">{day(one.at)}, {one.who}</span>
            </p>
            {#if one.now}<p class="text-sm">{one.was} → {one.now}</p>{/if}
            <p class="muted text-sm">
              {#if one.before.cleanings && one.after.cleanings}
                a cleaning freed {size(one.before.freed_each)} before, {size(one.after.freed_each)} after
                ({one.before.cleanings} and {one.after
                  .cleanings}){#if one.before.seconds_each && one.after.seconds_each}, took {stretch(
                    one.before.seconds_each
                  )} and {stretch(one.after.seconds_each)}{/if}
              {:else}
                not enough cleanings before or after to compare
              {/if}
            </p>
          </li>
        {:else}
          <li class="muted py-2">No rule or routine was changed in the last half year.</li>
        {/each}
      </ul>
    </section>
  </div>
{/if}

<style>
  .weeks {
    display: flex;
    align-items: flex-end;
    gap: 3px;
    height: 9rem;
    border-bottom: 1px solid var(--line);
  }
  .weeks span {
    flex: 1;
    background: var(--main);
    min-height: 1px;
  }
  .line {
    height: 0.5rem;
    background: var(--part-free);
  }
  .line span {
    display: block;
    height: 100%;
    background: var(--main);
  }
</style>
