<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { Machine, Schema } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import When from '$lib/components/When.svelte';
  import { useMay } from '$lib/session';
  import { count, size } from '$lib/words';
  import RemoveProgram from './RemoveProgram.svelte';

  interface Props {
    machine: Machine;
    busy: boolean;
    onstarted: () => void;
  }
  let { machine, busy, onstarted }: Props = $props();
  type Program = Schema['InstalledProgram'];
  const FIRST = 6;
  const may = useMay();
  const asked = createQuery(() =>
    ask('/api/v2/machines/{machine}/inventories', { params: { path: { machine: machine.tag } } })
  );
  const list = $derived(asked.data?.find((one) => one.kind === 'programs'));
  const programs = $derived(
    [...(list?.programs ?? [])].sort((a, b) => (b.size ?? 0) - (a.size ?? 0))
  );
  let all = $state(false);
  let leaving = $state<Program | null>(null);
</script>

{#if !asked.data}<Failed query={asked} />{:else if !list}
  <p class="mt-2">Nobody has looked at its programs yet: check it.</p>
{:else}
  {#if list.unread}<p class="lookhere mt-2">The newest survey failed: {list.unread}.</p>{/if}
  <p class="muted mt-1 text-sm">
    {count(programs.length, 'program')}, the largest first, by the survey of <When
      at={list.taken_at}
    />
  </p>
  <ul class="ruled mt-1" data-testid="installed">
    {#each all ? programs : programs.slice(0, FIRST) as program, n (n)}
      <li class="flex flex-wrap items-start justify-between gap-x-4 gap-y-1 py-2">
        <span>
          <strong>{program.name}</strong>
          {program.version}
          {#if program.trial}<span class="lookhere">trial version</span>{/if}
          <span class="muted block text-sm">
            {program.size ? size(program.size) : 'size not known'},
            {#if program.last_used}last used <When at={program.last_used} />{:else}nobody knows when
              it was used{/if}{program.maker ? `, by ${program.maker}` : ''}
          </span>
        </span>
        {#if program.removal === 'never'}
          <span class="muted text-sm">the system needs it</span>
        {:else if program.removal === 'by hand'}
          <span class="muted text-sm">removed by hand: {program.why}</span>
        {:else if may.work}
          <button
            class="act noprint"
            disabled={busy}
            aria-label="Remove {program.name}…"
            onclick={() => (leaving = program)}>Remove…</button
          >
        {/if}
      </li>
    {/each}
  </ul>
  {#if programs.length > FIRST}
    <button class="act noprint mt-2" aria-expanded={all} onclick={() => (all = !all)}
      >{all ? 'Only the largest' : `All ${programs.length}`}</button
    >
  {/if}
{/if}
{#if leaving}
  <RemoveProgram {machine} program={leaving} {onstarted} onclosed={() => (leaving = null)} />
{/if}
