<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import type { Machine } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { inGroups } from '$lib/words';
  import { untrack } from 'svelte';
  import { orderOf } from './columns';
  import { questionOf } from './rows.svelte';

  interface Props {
    isIn: (machine: Machine) => boolean;
    /** What is to be said of a machine, such as that it is left out. */
    noteOf?: (machine: Machine) => string;
    onchoose: (machine: Machine, on: boolean) => void;
    /** Numbers shown first, while no words are looked for. */
    first: number[];
  }
  let { isIn, noteOf = () => '', onchoose, first }: Props = $props();

  const MOST = 50;
  let words = $state('');
  const begins = untrack(() => first.slice(0, 200));
  const numbersAsked = createQuery(() => ({
    ...ask('/api/v2/machines/numbers', {
      params: { query: questionOf({ words: words.trim() }, orderOf('tag', null)) }
    }),
    placeholderData: keepPreviousData
  }));
  const numbers = $derived(numbersAsked.data ?? []);
  const shown = $derived(
    words.trim()
      ? numbers.slice(0, MOST)
      : [...begins, ...numbers.filter((id) => !begins.includes(id))].slice(
          0,
          Math.max(MOST, begins.length)
        )
  );
  const rowsAsked = createQuery(() => ({
    ...ask('/api/v2/machines', { params: { query: { machine_id: shown } } }),
    placeholderData: keepPreviousData,
    enabled: shown.length > 0
  }));
  const rows = $derived(shown.length ? ((rowsAsked.data ?? []) as Machine[]) : []);
</script>

<input
  class="box mt-3 max-w-md"
  placeholder="Find a machine by tag, client, make or model"
  bind:value={words}
  aria-label="Find a machine"
/>
<div
  class="mt-2 max-h-64 overflow-auto border-y border-[var(--line)] py-1"
  role="group"
  aria-label="Machines"
  data-testid="machine-picker"
>
  {#each rows as machine (machine.id)}
    <label class="flex items-baseline gap-2 py-0.5">
      <input
        type="checkbox"
        checked={isIn(machine)}
        onchange={(e) => onchoose(machine, e.currentTarget.checked)}
      />
      <span>
        {machine.tag}
        <span class="muted text-sm">{machine.client_name}{noteOf(machine)}</span>
      </span>
    </label>
  {:else}
    {#if numbersAsked.data}<p class="muted">No machine is like that.</p>{:else}<Failed
        query={numbersAsked}
      />{/if}
  {/each}
</div>
{#if numbers.length > shown.length}
  <p class="muted mt-1 text-sm">
    {inGroups(shown.length)} of {inGroups(numbers.length)} shown; type to find others.
  </p>
{/if}
