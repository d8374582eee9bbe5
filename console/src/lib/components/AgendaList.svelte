<script lang="ts">
  import type { AgendaLine } from '$lib/api/client';
  import { clock, count, dayName, daysOf, local, stretch, today } from '$lib/words';

  let { lines }: { lines: AgendaLine[] } = $props();
  const days = $derived(
    Object.entries(Object.groupBy(lines, (line) => local(line.opens_at).day)).toSorted()
  );
  const seconds = (span: string) => Math.round(daysOf(span) * 86_400);

  function where(line: AgendaLine): string {
    const names = line.clients.slice(0, 3).map((c) => c.client_name);
    const more = line.clients.length - names.length;
    return [...names, ...(more > 0 ? [`${more} more`] : [])].join(', ');
  }
  function became(line: AgendaLine): string {
    return Object.entries(line.states)
      .map(([state, number]) => `${number} ${state}`)
      .join(', ');
  }
</script>

<div data-testid="agenda">
  {#each days as [day, some] (day)}
    <section class="mt-5">
      <h2 class="text-base">
        {dayName(day)}{#if day === today()}<span class="muted">&nbsp;· today</span>{/if}
      </h2>
      <ul class="ruled mt-1">
        {#each some as line (`${line.round_id} ${line.occurs_at} ${line.opens_at}`)}
          <li class="grid gap-x-4 py-2 sm:grid-cols-[8rem_minmax(0,1fr)_auto]">
            <span class="tabular-nums">
              {clock(new Date(line.opens_at))}–{clock(new Date(line.ends_at))}
            </span>
            <span class:line-through={line.cancelled}>
              <a class="anchor font-semibold" href="/rounds/{line.round_id}">{line.round_name}</a>
              <span class="muted">{line.routine_name} · {where(line)}</span>
            </span>
            <span class="muted text-sm">
              {count(line.machines, 'machine')}{#if became(line)}: {became(
                  line
                )}{:else if line.clients.length}, about {stretch(
                  Math.max(...line.clients.map((c) => seconds(c.expected_duration)))
                )}{/if}
            </span>
            {#if line.note}<span class="muted text-sm sm:col-start-2">{line.note}</span>{/if}
            {#each line.clashes as clash (clash)}
              <span class="lookhere text-sm sm:col-start-2">Overlap: {clash}</span>
            {/each}
          </li>
        {/each}
      </ul>
    </section>
  {:else}
    <p class="mt-6">Nothing is planned on these days.</p>
  {/each}
</div>
