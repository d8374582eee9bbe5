<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { createWindowVirtualizer } from '@tanstack/svelte-virtual';
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { downloadCsv } from '$lib/api/download';
  import { ask } from '$lib/api/queries';
  import { spaceAround } from '$lib/api/seen.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import HasChanged from '$lib/components/HasChanged.svelte';
  import Panel from '$lib/components/Panel.svelte';
  import Views from '$lib/components/Views.svelte';
  import Chosen from '$lib/machines/Chosen.svelte';
  import MachineCells from '$lib/machines/MachineCells.svelte';
  import {
    COLUMNS,
    DAYS,
    TAG,
    columnsOf,
    namesOf,
    orderOf,
    pressed,
    type Column
  } from '$lib/machines/columns';
  import { MachineRows, questionOf, type Choice } from '$lib/machines/rows.svelte';
  import { useMe } from '$lib/session';
  import { count } from '$lib/words';
  import Plus from '@lucide/svelte/icons/plus';
  import { tick, untrack } from 'svelte';
  import { SvelteMap, SvelteSet } from 'svelte/reactivity';

  const SYSTEMS = ['windows', 'macos', 'linux'] as const;
  const CHIPS = [
    { param: 'tight', name: 'nearly full' },
    { param: 'noround', name: 'no round' },
    { param: 'noagent', name: 'not enrolled' },
    { param: 'retired', name: 'retired' }
  ];

  const me = useMe();
  const role = $derived(me.data?.role ?? 'desk');
  const chosen = new SvelteSet<number>();

  // the page's state is its address, so that it can be kept, shared and gone back to
  const params = $derived(page.url.searchParams);
  const words = $derived(params.get('words') ?? '');
  const system = $derived(SYSTEMS.find((name) => name === params.get('system')));
  const clientId = $derived(Number(params.get('client')) || undefined);
  const columns = $derived(columnsOf(params.get('columns')));
  const order = $derived(orderOf(params.get('sort'), params.get('way')));
  const choice = $derived<Choice>({
    words: words.trim(),
    client_id: clientId,
    system: system ? [system] : [],
    nearly_full: params.has('tight'),
    without_round: params.has('noround'),
    not_enrolled: params.has('noagent'),
    retired: params.has('retired')
  });
  const isChosen = $derived(Object.keys(questionOf(choice, order)).length > 2);

  function go(change: Record<string, string | null>) {
    const next = new URLSearchParams(params);
    for (const [name, value] of Object.entries(change)) {
      if (value === null || value === '') next.delete(name);
      else next.set(name, value);
    }
    void goto(`/machines?${next}`, { replaceState: true, keepFocus: true, noScroll: true });
  }
  function show(column: Column, on: boolean) {
    go({
      columns: namesOf(COLUMNS.filter((other) => (other === column ? on : columns.includes(other))))
    });
  }

  const list = new MachineRows(
    () => choice,
    () => order
  );
  const numbers = $derived(list.numbers ?? []);
  const clientAsked = createQuery(() => ({
    ...ask('/api/v2/clients/{client_id}', { params: { path: { client_id: clientId ?? 0 } } }),
    enabled: clientId !== undefined
  }));

  // only the rows that are seen are drawn; on paper, all that are known
  // as a card, a line for each column
  const isCard = matchMedia('(max-width: 640px)').matches;
  const rowHeight = () => (isCard ? 44 + 28 * columns.length : 69);
  let body = $state<HTMLElement>();
  let printing = $state(false);
  const rows = createWindowVirtualizer({
    count: 0,
    estimateSize: rowHeight,
    overscan: isCard ? 3 : 8
  });
  $effect(() => {
    const margin = body ? body.getBoundingClientRect().top + scrollY : 0;
    const ids = numbers;
    untrack(() =>
      $rows.setOptions({
        count: ids.length,
        scrollMargin: margin,
        getItemKey: (index) => ids[index] ?? index
      })
    );
  });
  const drawn = $derived(printing ? [] : $rows.getVirtualItems());
  const seen = $derived(
    printing
      ? numbers.map((id, index) => ({ id, index })).filter(({ id }) => list.rows.row(id))
      : drawn.flatMap(({ index }) => {
          const id = numbers[index];
          return id === undefined ? [] : [{ id, index }];
        })
  );
  $effect(() => {
    const first = drawn[0]?.index ?? 0;
    const last = drawn.at(-1)?.index ?? 0;
    untrack(() => {
      list.rows.show(first, last);
    });
  });
  const space = $derived(spaceAround($rows));
  /** Rows are as high as their words need. */
  function measured(row: HTMLElement) {
    $rows.measureElement(row);
  }

  // free space of the rows that are seen, once scrolling rests
  let resting = $state<number[]>([]);
  $effect(() => {
    const ids = seen.map(({ id }) => id).toSorted((a, b) => a - b);
    const wanted = columns.some((column) => column.key === 'line') ? ids.slice(0, 100) : [];
    const timer = setTimeout(() => (resting = wanted), 150);
    return () => clearTimeout(timer);
  });
  const linesAsked = createQuery(() => ({
    ...ask('/api/v2/machines/free-lines', {
      params: { query: { machine_id: resting, days: DAYS } }
    }),
    enabled: resting.length > 0
  }));
  const lines = new SvelteMap<number, (number | null)[]>();
  $effect(() => {
    for (const line of linesAsked.data ?? []) lines.set(line.volume_id, line.shares);
  });

  let busy = $state('');
  let problem = $state('');
  async function paper() {
    busy = 'Loading all rows…';
    problem = '';
    try {
      await list.rows.all();
      printing = true;
      await tick();
      window.print();
    } catch (error) {
      problem = (error as Error).message;
    }
    printing = false;
    busy = '';
  }
  async function save() {
    const query = new URLSearchParams();
    for (const [name, value] of Object.entries(questionOf(choice, order))) {
      for (const part of [value].flat()) query.append(name, String(part));
    }
    problem = '';
    await downloadCsv(`/api/v2/machines?${query}`, 'machines.csv').catch((error: Error) => {
      problem = error.message;
    });
  }
</script>

<svelte:window onbeforeprint={() => (printing = true)} onafterprint={() => (printing = false)} />
<svelte:head><title>Machines – Phylax</title></svelte:head>

{#snippet heading(column: Column)}
  {@const here = column.sort && column.sort === order.sort}
  <th scope="col" aria-sort={here ? (order.descending ? 'descending' : 'ascending') : undefined}>
    {#if column.sort}
      <button class="cursor-pointer hover:underline" onclick={() => go(pressed(column, order))}>
        {column.name}{here ? (order.descending ? ' ↓' : ' ↑') : ''}
      </button>
    {:else}{column.name}{/if}
  </th>
{/snippet}

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>
    Machines{#if clientAsked.data}{' '}of
      <a class="anchor" href="/clients/{clientAsked.data.id}">{clientAsked.data.name}</a>{/if}
  </h1>
  <a class="anchor ml-auto" href="/clients">Clients</a>
  <a class="anchor" href="/trends">Trends over the shop</a>
  <a class="anchor" href="/installed">Programs over the shop</a>
  <a class="act main" href="/machines/new"><Plus aria-hidden="true" />Add a machine</a>
</div>
<div class="noprint mt-4 flex flex-wrap items-center gap-2">
  <label class="sr-only" for="filter">Filter by words</label>
  <input
    id="filter"
    class="box w-64"
    placeholder="Tag, client, make, model, serial"
    value={words}
    oninput={(e) => go({ words: e.currentTarget.value })}
  />
  {#each SYSTEMS as name (name)}
    <button
      class="act"
      aria-pressed={system === name}
      onclick={() => go({ system: system === name ? null : name })}>{name}</button
    >
  {/each}
  {#each CHIPS as chip (chip.param)}
    <button
      class="act"
      aria-pressed={params.has(chip.param)}
      onclick={() => go({ [chip.param]: params.has(chip.param) ? null : 'yes' })}
      >{chip.name}</button
    >
  {/each}
  {#if clientId}
    <button class="act" onclick={() => go({ client: null })}>of all clients</button>
  {/if}
</div>
<div class="mt-2 flex flex-wrap items-center gap-2">
  <label class="noprint flex items-center gap-2 sm:hidden">
    Sort by
    <select
      class="box"
      value={order.sort}
      onchange={(e) => go({ sort: e.currentTarget.value, way: null })}
    >
      {#each [TAG, ...COLUMNS].filter((c) => c.sort) as column (column.key)}
        <option value={column.sort}>{column.name}</option>
      {/each}
    </select>
  </label>
  <span class="muted mr-auto" role="status">
    {#if list.numbers}{count(numbers.length, 'machine')}{/if}
  </span>
  <span class="noprint"><Views page="machines" query={params.toString()} /></span>
  <span class="noprint hidden flex-wrap gap-2 sm:flex">
    <Panel name="Columns">
      {#each COLUMNS as column (column.key)}
        <label class="flex items-center gap-2 py-0.5">
          <input
            type="checkbox"
            checked={columns.includes(column)}
            onchange={(e) => show(column, e.currentTarget.checked)}
          />
          {column.name}
        </label>
      {/each}
    </Panel>
    <button class="act" onclick={save}>Save as CSV</button>
    <button class="act" disabled={busy !== ''} onclick={paper}>{busy || 'Print'}</button>
  </span>
</div>
{#if problem}<p class="lossy mt-2" role="alert">{problem}</p>{/if}
{#if chosen.size}
  <Chosen {chosen} shown={numbers} mayWork={role !== 'desk'} mayRule={role !== 'desk'} />
{/if}

{#if list.query.error || list.rows.failed || !list.numbers}
  <div class="mt-6"><Failed query={list.rows.failed ?? list.query} /></div>
{/if}
{#if list.numbers && !numbers.length}
  <p class="mt-6">
    {isChosen
      ? 'No machine is like that. Try fewer words or chips.'
      : 'No machines yet. Add the first one.'}
  </p>
{:else if list.numbers}
  <HasChanged list={list.order} />
  <div class="mt-4 overflow-x-auto">
    <table
      class="sheet cards"
      data-testid="machines"
      aria-rowcount={numbers.length + 1}
      {@attach list.order.within}
    >
      <caption class="sr-only">Machines, by {order.sort}</caption>
      <thead>
        <tr>
          {@render heading(TAG)}
          {#each columns as column (column.key)}{@render heading(column)}{/each}
        </tr>
      </thead>
      <tbody bind:this={body}>
        {#if space.above}<tr aria-hidden="true"
            ><td colspan={columns.length + 1} style:height="{space.above}px"></td></tr
          >{/if}
        {#each seen as { id, index } (id)}
          {@const machine = list.rows.row(id)}
          <tr data-index={index} aria-rowindex={index + 2} use:measured>
            {#if machine}
              <th scope="row" class="whitespace-nowrap">
                <input
                  type="checkbox"
                  aria-label="Choose {machine.tag}"
                  checked={chosen.has(id)}
                  onchange={(e) => (e.currentTarget.checked ? chosen.add(id) : chosen.delete(id))}
                />
                <a class="anchor font-semibold" href="/machines/{machine.tag}">{machine.tag}</a>
              </th>
              <MachineCells {machine} {columns} lineOf={(volume) => lines.get(volume)} />
            {:else}
              <td colspan={columns.length + 1} style:height="{rowHeight()}px" class="muted">…</td>
            {/if}
          </tr>
        {/each}
        {#if space.below && !printing}<tr aria-hidden="true"
            ><td colspan={columns.length + 1} style:height="{space.below}px"></td></tr
          >{/if}
      </tbody>
    </table>
  </div>
  {#if printing && seen.length < numbers.length}
    <p>{count(numbers.length - seen.length, 'machine')} more; use <em>Print</em> on the page.</p>
  {/if}
{/if}
