<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
  import { ask, askPages, itemsOf } from '$lib/api/queries';
  import ClientBox from '$lib/components/ClientBox.svelte';
  import Failed from '$lib/components/Failed.svelte';
  import Timeline from '$lib/components/Timeline.svelte';
  import Views from '$lib/components/Views.svelte';
  import { dayIn, dayStart, later, monthBack } from '$lib/words';

  const KINDS = [
    { kind: 'run', name: 'runs' },
    { kind: 'note', name: 'notes' },
    { kind: 'call', name: 'calls' },
    { kind: 'visit', name: 'visits' },
    { kind: 'report', name: 'reports sent' },
    { kind: 'setting', name: 'settings' },
    { kind: 'machine', name: 'machines added' },
    { kind: 'erasure', name: 'words erased' }
  ] as const;
  const MONTHS = [
    { name: 'this month', back: 0 },
    { name: 'last month', back: 1 }
  ];

  const params = $derived(page.url.searchParams);
  const words = $derived(params.get('words') ?? '');
  const kinds = $derived(
    KINDS.map(({ kind }) => kind).filter((kind) => params.getAll('kind').includes(kind))
  );
  const who = $derived(params.get('who') ?? '');
  const machine = $derived(params.get('machine') ?? '');
  const client = $derived(params.get('client') ?? '');
  const since = $derived(dayIn(params.get('since')));
  const until = $derived(dayIn(params.get('until')));
  const isChosen = $derived([...params.keys()].length > 0);

  const query = $derived({
    words,
    ...(kinds.length ? { kind: kinds } : {}),
    ...(who ? { who } : {}),
    ...(machine ? { machine } : {}),
    ...(Number(client) ? { client_id: Number(client) } : {}),
    // days are the shop's; the last one is meant whole
    ...(since ? { since: dayStart(since) } : {}),
    ...(until ? { until: dayStart(later(until, 1)) } : {}),
    limit: 40
  });
  const asked = createInfiniteQuery(() =>
    askPages('/api/v2/records', { params: { query } }, (last) => ({ before: last.id }))
  );
  const authorsAsked = createQuery(() => ask('/api/v2/records/authors'));
  const authors = $derived(authorsAsked.data ?? (who ? [who] : []));

  function go(change: Record<string, string | string[]>) {
    const next = new URLSearchParams(params);
    for (const [name, value] of Object.entries(change)) {
      next.delete(name);
      for (const part of [value].flat()) if (part) next.append(name, part);
    }
    void goto(`/records?${next}`, { replaceState: true, keepFocus: true, noScroll: true });
  }
</script>

<svelte:head><title>Records – Phylax</title></svelte:head>

<div class="flex flex-wrap items-center justify-between gap-4">
  <h1>Records</h1>
  <span class="noprint"><Views page="records" query={params.toString()} /></span>
</div>
<div class="noprint mt-4 space-y-3">
  <div class="flex flex-wrap items-center gap-2">
    <label class="sr-only" for="words">Search everything that was done or written</label>
    <input
      id="words"
      class="box max-w-md"
      placeholder="Search everything that was done or written"
      value={words}
      oninput={(e) => go({ words: e.currentTarget.value })}
      aria-describedby="fields"
    />
    {#each KINDS as { kind, name } (kind)}
      <button
        class="act"
        aria-pressed={kinds.includes(kind)}
        onclick={() =>
          go({ kind: kinds.includes(kind) ? kinds.filter((k) => k !== kind) : [...kinds, kind] })}
        >{name}</button
      >
    {/each}
  </div>
  <p id="fields" class="muted text-sm">
    Words of the entry, a tag, a client, a name; or <code>machine:tag</code>,
    <code>client:"all of it"</code>, <code>by:name</code>, <code>kind:note</code>,
    <code>from:2026-11-01</code>, <code>to:2026-11-30</code>.
  </p>
  <div class="flex flex-wrap items-end gap-3">
    <label class="field">
      <span>Who</span>
      <select class="box w-44" value={who} onchange={(e) => go({ who: e.currentTarget.value })}>
        <option value="">anybody</option>
        {#each authors as author (author)}
          <option value={author}>{author}</option>
        {/each}
      </select>
    </label>
    <ClientBox
      label="Client"
      bind:value={() => client, (value) => go({ client: value })}
      first={[{ value: '', label: 'any client' }]}
    />
    <label class="field">
      <span>Machine</span>
      <input
        class="box w-44"
        placeholder="its tag"
        value={machine}
        onchange={(e) => go({ machine: e.currentTarget.value.trim() })}
      />
    </label>
    <label class="field">
      <span>From</span>
      <input
        class="box"
        type="date"
        value={since}
        max={until || undefined}
        onchange={(e) => go({ since: e.currentTarget.value })}
      />
    </label>
    <label class="field">
      <span>To</span>
      <input
        class="box"
        type="date"
        value={until}
        min={since || undefined}
        onchange={(e) => go({ until: e.currentTarget.value })}
      />
    </label>
    <span class="flex gap-3">
      {#each MONTHS as { name, back } (name)}
        {@const month = monthBack(back)}
        <button
          class="act"
          aria-pressed={since === month.since && until === month.until}
          onclick={() => go(month)}>{name}</button
        >
      {/each}
    </span>
    {#if isChosen}
      <a class="anchor py-2" href="/records">Show everything</a>
    {/if}
  </div>
</div>
<div class="mt-2">
  {#if asked.data}
    {@const records = itemsOf(asked.data)}
    {#if records.length || !isChosen}
      <Timeline {records} withMachine />
    {:else}
      <p class="mt-6">
        No entry is like that. <a class="anchor" href="/records">Show everything</a>
      </p>
    {/if}
  {:else}<Failed query={asked} />{/if}
</div>
{#if asked.hasNextPage}
  <button
    class="act noprint"
    disabled={asked.isFetchingNextPage}
    onclick={() => asked.fetchNextPage()}>Show older</button
  >
{/if}
