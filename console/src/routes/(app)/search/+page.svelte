<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import type { Schema } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import Failed from '$lib/components/Failed.svelte';
  import HitLine from '$lib/search/HitLine.svelte';
  import { KINDS } from '$lib/search/kinds';

  type Kind = Schema['HitKind'];
  const params = $derived(page.url.searchParams);
  const words = $derived(params.get('words') ?? '');
  const only = $derived(params.getAll('only').filter((kind): kind is Kind => kind in KINDS));
  const query = $derived({
    words,
    ...(only.length ? { only } : {}),
    limit: only.length ? 200 : 8
  });
  const asked = createQuery(() => ({
    ...ask('/api/v2/search', { params: { query } }),
    placeholderData: keepPreviousData,
    enabled: words.trim() !== ''
  }));
  // as JSON, though the address also answers with CSV and JSON Lines
  const groups = $derived(((asked.data as Schema['Results'] | undefined) ?? { groups: [] }).groups);
  const lines = (form: string) => {
    const wanted = new URLSearchParams({ words, limit: '5000', form });
    for (const kind of only) wanted.append('only', kind);
    return `/api/v2/search?${wanted}`;
  };

  // whoever said a whole tag or name meant that one
  const named = $derived(
    groups
      .flatMap((group) => group.hits)
      .find(
        (hit) =>
          (hit.kind === 'machine' || hit.kind === 'client') &&
          hit.title.toLowerCase() === words.trim().toLowerCase()
      )
  );
  $effect(() => {
    if (params.get('go') && named) void goto(named.page, { replaceState: true });
  });

  function go(change: { words?: string; only?: string[] }) {
    const next = new URLSearchParams();
    const text = change.words ?? words;
    if (text) next.set('words', text);
    for (const kind of change.only ?? only) next.append('only', kind);
    void goto(`/search?${next}`, { replaceState: true, keepFocus: true, noScroll: true });
  }
</script>

<svelte:head><title>Search – Phylax</title></svelte:head>

<h1>Search</h1>
<div class="noprint mt-4 space-y-3">
  <label class="sr-only" for="words">Search everything</label>
  <input
    id="words"
    class="box w-full max-w-2xl"
    placeholder="A name, a tag, a file, a number, what was said"
    value={words}
    oninput={(event) => go({ words: event.currentTarget.value })}
    onkeydown={(event) => {
      if (event.key === 'Enter')
        void goto(`/search?words=${encodeURIComponent(words)}&go=yes`, { replaceState: true });
    }}
    aria-describedby="fields"
  />
  <p id="fields" class="muted text-sm">
    Narrow it with <code>machine:tag</code>, <code>client:"all of it"</code>, <code>by:name</code>,
    <code>kind:note</code>, <code>from:2026-11-01</code>, <code>to:2026-11-30</code>.
  </p>
  <div class="flex flex-wrap items-center gap-2">
    {#each Object.entries(KINDS) as [kind, name] (kind)}
      <button
        class="act"
        aria-pressed={only.includes(kind as Kind)}
        onclick={() =>
          go({
            only: only.includes(kind as Kind)
              ? only.filter((other) => other !== kind)
              : [...only, kind]
          })}>{name}</button
      >
    {/each}
    {#if groups.length}
      <span class="ml-auto flex gap-4">
        <a class="anchor" href={lines('csv')} download="search.csv">CSV</a>
        <a class="anchor" href={lines('jsonl')} download="search.jsonl">JSON Lines</a>
      </span>
    {/if}
  </div>
</div>
{#if !words.trim()}
  <p class="muted mt-6">
    Try <a class="anchor" href="/search?words=fan">fan</a>, or what became of a file by its name.
  </p>
{:else if asked.data}
  {#each groups as group (group.kind)}
    <section class="mt-6" aria-labelledby="of-{group.kind}">
      <div class="flex flex-wrap items-center justify-between gap-2">
        <h2 id="of-{group.kind}">{KINDS[group.kind]}</h2>
        {#if group.more && !only.length}
          <button class="plain" onclick={() => go({ only: [group.kind] })}>Show more</button>
        {:else if group.more}<span class="muted text-sm">There is more: narrow it.</span>{/if}
      </div>
      <ul class="ruled mt-1" data-testid="hits-{group.kind}">
        {#each group.hits as hit, at (`${hit.id} ${at}`)}
          <li class="py-2"><HitLine {hit} {words} /></li>
        {/each}
      </ul>
    </section>
  {:else}
    <p class="mt-6">Nothing fits. Try fewer words, or the beginning of one.</p>
  {/each}
{:else}<Failed query={asked} />{/if}
