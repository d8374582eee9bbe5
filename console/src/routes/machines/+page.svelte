<script lang="ts">
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
  import { createWindowVirtualizer } from '@tanstack/svelte-virtual';
  import { ask, askPages, itemsOf } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import { useMe } from '$lib/session';
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import type { Machine } from '$lib/api/client';
  import RoutineStart from '$lib/components/RoutineStart.svelte';
  import FreeLine from '$lib/components/FreeLine.svelte';
  import VolumeBar from '$lib/components/VolumeBar.svelte';
  import When from '$lib/components/When.svelte';
  import { count, day, share, size } from '$lib/words';
  import Plus from '@lucide/svelte/icons/plus';
  import { untrack } from 'svelte';
  import { SvelteMap, SvelteSet } from 'svelte/reactivity';

  const DAYS = 90;
  const SYSTEMS = ['windows', 'macos', 'linux'] as const;

  const me = useMe();
  const role = $derived(me.data?.role ?? 'desk');
  const chosen = new SvelteSet<number>();

  // the page's state is its address, so that it can be kept, shared and gone back to
  const words = $derived(page.url.searchParams.get('words') ?? '');
  const system = $derived(page.url.searchParams.get('system') ?? '');
  const tight = $derived(page.url.searchParams.has('tight'));
  const sort = $derived(page.url.searchParams.get('sort') ?? 'tightest');

  function go(change: Record<string, string | null>) {
    const next = new URLSearchParams(page.url.searchParams);
    for (const [name, value] of Object.entries(change)) {
      if (value === null || value === '') next.delete(name);
      else next.set(name, value);
    }
    void goto(`/machines?${next}`, { replaceState: true, keepFocus: true, noScroll: true });
  }

  const used = (m: Machine) =>
    Math.max(0, ...m.volumes.map((v) => (v.capacity ? 1 - v.free / v.capacity : 0)));
  const tightest = (m: Machine) =>
    m.volumes.toSorted((a, b) => a.free / a.capacity - b.free / b.capacity)[0];

  /** When the first of its volumes is likely over its threshold; over already sorts first. */
  const isOver = (m: Machine) => 100 * used(m) > m.limit_percent;
  const crossing = (m: Machine) =>
    isOver(m)
      ? ''
      : (m.volumes
          .map((v) => v.crosses?.likely ?? '')
          .filter(Boolean)
          .toSorted()[0] ?? '9999');

  const byName = new Intl.Collator('en').compare;
  const byTime = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0);
  const ORDERS: Record<string, (a: Machine, b: Machine) => number> = {
    tag: (a, b) => byName(a.tag, b.tag),
    client: (a, b) => byName(a.client_name, b.client_name) || byName(a.tag, b.tag),
    tightest: (a, b) => used(b) - used(a),
    crossing: (a, b) => byTime(crossing(a), crossing(b)) || used(b) - used(a),
    cleaned: (a, b) => byTime(a.cleaned_at ?? '', b.cleaned_at ?? ''),
    seen: (a, b) => byTime(a.seen_at ?? '', b.seen_at ?? '')
  };
  // page by page until there are no more; what came is shown at once
  const asked = createInfiniteQuery(() =>
    askPages('/api/v1/machines', { params: { query: { words, limit: 500 } } }, (last) => ({
      after: last.id
    }))
  );
  $effect(() => {
    if (asked.hasNextPage && !asked.isFetching) void asked.fetchNextPage();
  });
  const machines = $derived<Machine[] | null>(asked.data ? itemsOf(asked.data) : null);
  const shown = $derived(
    (machines ?? [])
      .filter((m) => !system || m.system === system)
      .filter((m) => !tight || isOver(m))
      .toSorted(ORDERS[sort] ?? ORDERS.tightest)
  );

  // only the rows that are seen are drawn; on paper, all of them
  const ROW = 69;
  let body = $state<HTMLElement>();
  let printing = $state(false);
  const rows = createWindowVirtualizer({ count: 0, estimateSize: () => ROW, overscan: 8 });
  $effect(() => {
    const margin = body ? body.getBoundingClientRect().top + scrollY : 0;
    const count = shown.length;
    untrack(() =>
      $rows.setOptions({
        count,
        scrollMargin: margin,
        getItemKey: (index) => shown[index]?.id ?? index
      })
    );
  });
  const seen = $derived(
    printing
      ? shown.map((machine, index) => ({ machine, index }))
      : $rows.getVirtualItems().flatMap(({ index }) => {
          const machine = shown[index];
          return machine ? [{ machine, index }] : [];
        })
  );
  const above = $derived(
    printing
      ? 0
      : Math.max(0, ($rows.getVirtualItems()[0]?.start ?? 0) - $rows.options.scrollMargin)
  );
  const below = $derived(
    printing
      ? 0
      : Math.max(
          0,
          $rows.getTotalSize() -
            (($rows.getVirtualItems().at(-1)?.end ?? 0) - $rows.options.scrollMargin)
        )
  );
  /** Rows are as high as their words need. */
  function measured(row: HTMLElement) {
    $rows.measureElement(row);
  }

  // free space of the rows that are seen, once scrolling rests
  let resting = $state<number[]>([]);
  $effect(() => {
    const ids = seen.map(({ machine }) => machine.id).toSorted((a, b) => a - b);
    const timer = setTimeout(() => (resting = ids.slice(0, 100)), 150);
    return () => clearTimeout(timer);
  });
  const linesAsked = createQuery(() => ({
    ...ask('/api/v1/machines/free-lines', {
      params: { query: { machine_id: resting, days: DAYS } }
    }),
    enabled: resting.length > 0
  }));
  const lines = new SvelteMap<number, (number | null)[]>();
  $effect(() => {
    for (const line of linesAsked.data ?? []) lines.set(line.volume_id, line.shares);
  });
</script>

<svelte:window onbeforeprint={() => (printing = true)} onafterprint={() => (printing = false)} />
<svelte:head><title>Machines – Phylax</title></svelte:head>

{#snippet heading(key: string, name: string)}
  <button
    class="cursor-pointer hover:underline"
    aria-pressed={sort === key}
    onclick={() => go({ sort: key })}
  >
    {name}{sort === key ? ' ↓' : ''}
  </button>
{/snippet}

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Machines</h1>
  <a class="anchor ml-auto" href="/trends">Trends over the shop</a>
  <a class="act main" href="/machines/new"><Plus aria-hidden="true" />Add a machine</a>
</div>
<div class="mt-4 flex flex-wrap items-center gap-2">
  <label class="sr-only" for="filter">Filter by words</label>
  <input
    id="filter"
    class="box w-64"
    placeholder="Tag, client, make or model"
    value={words}
    oninput={(e) => go({ words: e.currentTarget.value })}
  />
  {#each SYSTEMS as name (name)}
    <button
      class="act"
      aria-pressed={system === name}
      class:main={system === name}
      onclick={() => go({ system: system === name ? null : name })}>{name}</button
    >
  {/each}
  <button
    class="act"
    aria-pressed={tight}
    class:main={tight}
    onclick={() => go({ tight: tight ? null : 'yes' })}>nearly full</button
  >
  <span class="muted ml-auto">{count(shown.length, 'machine')}</span>
</div>
{#if chosen.size && role !== 'desk'}
  <div class="mt-3 flex flex-wrap items-center gap-3" data-testid="chosen">
    <strong>{count(chosen.size, 'machine')} chosen</strong>
    <RoutineStart machineIds={[...chosen]} />
    <button class="act" onclick={() => shown.forEach((m) => chosen.add(m.id))}>All shown</button>
    <button class="act" onclick={() => chosen.clear()}>None</button>
  </div>
{/if}

{#if machines === null || asked.error}<div class="mt-6"><Failed query={asked} /></div>{/if}
{#if machines === null}
  <!-- nothing yet -->
{:else if !shown.length}
  <p class="mt-6">
    {machines.length || words
      ? 'No machine is like that. Try fewer words or chips.'
      : 'No machines yet. Add the first one.'}
  </p>
{:else}
  <div class="mt-4 overflow-x-auto">
    <table class="sheet cards" data-testid="machines" aria-rowcount={shown.length + 1}>
      <thead>
        <tr>
          <th>{@render heading('tag', 'machine')}</th>
          <th>{@render heading('client', 'client')}</th>
          <th>system</th>
          <th>{@render heading('tightest', 'tightest volume')}</th>
          <th>free, {DAYS} days</th>
          <th>{@render heading('crossing', 'over its threshold')}</th>
          <th>{@render heading('cleaned', 'last cleaned')}</th>
          <th>next round</th>
          <th>{@render heading('seen', 'last contact')}</th>
        </tr>
      </thead>
      <tbody bind:this={body}>
        {#if above}<tr aria-hidden="true"><td colspan="9" style:height="{above}px"></td></tr>{/if}
        {#each seen as { machine, index } (machine.id)}
          {@const volume = tightest(machine)}
          {@const full = isOver(machine)}
          <tr data-index={index} aria-rowindex={index + 2} use:measured>
            <td class="whitespace-nowrap">
              <input
                type="checkbox"
                aria-label="Choose {machine.tag}"
                checked={chosen.has(machine.id)}
                onchange={(e) =>
                  e.currentTarget.checked ? chosen.add(machine.id) : chosen.delete(machine.id)}
              />
              <a class="anchor font-semibold" href="/machines/{machine.tag}">{machine.tag}</a>
            </td>
            <td>{machine.client_name}</td>
            <td>{machine.system}</td>
            <td class="min-w-44" data-label="tightest volume">
              {#if volume}
                <VolumeBar {volume} threshold={machine.limit_percent} />
                <span class="text-sm" class:lookhere={full}>
                  <code>{volume.mount}</code>
                  {share(volume.capacity - volume.free, volume.capacity)} used, {size(volume.free)} free{full
                    ? ', nearly full'
                    : ''}
                </span>
              {:else}
                <span class="muted">not read yet</span>
              {/if}
            </td>
            <td data-label="free, {DAYS} days">
              {#if volume && lines.has(volume.id)}
                <FreeLine shares={lines.get(volume.id) ?? []} days={DAYS} />
              {/if}
            </td>
            <td class="whitespace-nowrap" data-label="over its threshold">
              {#if full}over already{:else if volume?.crosses?.likely}<span
                  title="{volume.crosses.soonest
                    ? `soonest ${day(volume.crosses.soonest)}`
                    : ''}, {volume.crosses.latest
                    ? `latest ${day(volume.crosses.latest)}`
                    : 'perhaps never'}">{day(volume.crosses.likely)}</span
                >{:else if volume?.crosses?.soonest}<span class="muted"
                  >perhaps {day(volume.crosses.soonest)}</span
                >{:else}<span class="muted">–</span>{/if}
            </td>
            <td class="whitespace-nowrap" data-label="last cleaned"
              ><When at={machine.cleaned_at} /></td
            >
            <td class="whitespace-nowrap" data-label="next round"
              ><When at={machine.next_round_at} /></td
            >
            <td class="whitespace-nowrap" data-label="last contact">
              {#if machine.enrolled}<When at={machine.seen_at} />{:else}<span class="muted"
                  >not enrolled</span
                >{/if}
            </td>
          </tr>
        {/each}
        {#if below}<tr aria-hidden="true"><td colspan="9" style:height="{below}px"></td></tr>{/if}
      </tbody>
    </table>
  </div>
{/if}
