<script lang="ts">
  import type { Schema } from '$lib/api/client';
  import { count, when } from '$lib/words';

  let { trial }: { trial: Schema['Trial'] } = $props();
  const before = $derived(trial.before.slice(-22));
  const all = $derived([...before, ...trial.after]);
  const total = (start: Schema['Start']) => start.rest + (start.own ?? 0);
  const top = $derived(Math.max(1, ...all.map(total)));
  const said = (start: Schema['Start']) =>
    `${when(start.at)}: ${total(start).toFixed(1)} s` +
    (start.own == null ? '' : `, ${start.own.toFixed(1)} s of it what was changed`) +
    (start.left_out ? `; does not count, ${start.left_out}` : '');
</script>

{#snippet bars(starts: Schema['Start'][], name: string)}
  <div class="flex min-w-0 items-end gap-px" style:flex="{starts.length} 1 0" aria-label={name}>
    {#each starts as start (start.boot)}
      <div
        class="bar flex h-24 min-w-0 max-w-6 flex-1 flex-col justify-end"
        class:out={start.left_out}
        title={said(start)}
      >
        <span class="block bg-[var(--part-asks)]" style:height="{(100 * (start.own ?? 0)) / top}%"
        ></span>
        <span class="block bg-[var(--part-used)]" style:height="{(100 * start.rest) / top}%"></span>
      </div>
    {/each}
  </div>
{/snippet}

<figure class="mt-2" data-testid="starts">
  <div class="flex items-end gap-3" aria-hidden="true">
    {@render bars(before, 'before')}
    <div class="h-24 border-l-2 border-dashed border-[var(--main)]"></div>
    {@render bars(trial.after, 'after')}
    {#if !trial.after.length}<p class="muted self-center text-sm">no start since</p>{/if}
    <div style:flex="{Math.max(0, 20 - trial.after.length)} 1 0" class="hidden sm:block"></div>
  </div>
  <figcaption class="muted mt-1 flex flex-wrap gap-x-4 text-sm">
    <span
      >{count(before.length, 'start')} before, {trial.after.length} since; the dearest took {top.toFixed(
        1
      )} s of processor time</span
    >
    <span><i class="key" style:background="var(--part-asks)"></i>what was changed</span>
    <span><i class="key" style:background="var(--part-used)"></i>all else</span>
    {#if all.some((start) => start.left_out)}<span>pale: does not count</span>{/if}
  </figcaption>
</figure>
<details class="noprint mt-1 text-sm">
  <summary class="muted">Each start in words</summary>
  <ul class="mt-1 columns-1 sm:columns-2">
    {#each all as start, place (start.boot)}
      <li>{said(start)}{place === before.length ? ' (the first since the change)' : ''}</li>
    {/each}
  </ul>
</details>

<style>
  .out {
    opacity: 0.4;
  }
  .key {
    display: inline-block;
    width: 0.8em;
    height: 0.8em;
    border-radius: 0.15em;
    margin-right: 0.35em;
  }
</style>
