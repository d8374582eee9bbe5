<script lang="ts">
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
  import { ask, askPages, itemsOf } from '$lib/api/queries';
  import { api, inWords, type LedgerLine, type ListedItem, type Schema } from '$lib/api/client';
  import { count, size } from '$lib/words';
  import Folder from '@lucide/svelte/icons/folder';
  import { untrack, type Snippet } from 'svelte';
  import { SvelteMap } from 'svelte/reactivity';
  import Failed from './Failed.svelte';
  import Modal from './Modal.svelte';
  import When from './When.svelte';

  interface Props {
    open: boolean;
    surveyId: number;
    line: LedgerLine;
    /** Chosen so far: bytes by number. */
    chosen: Record<number, number>;
    onchosen: (chosen: Record<number, number>) => void;
    children?: Snippet;
  }
  let { open = $bindable(), surveyId, line, chosen, onchosen, children }: Props = $props();

  const PAGE = 200;
  type FolderSum = Schema['FolderSum'];
  let chosenFolder = $state<{ place: string; folder: string } | null>(null);
  let problem = $state('');
  const picked = new SvelteMap<number, number>();
  const bytes = $derived([...picked.values()].reduce((sum, one) => sum + one, 0));
  const asks = $derived(line.caution === 'ask');
  const path = $derived({ survey_id: surveyId, category: line.category });

  const placesAsked = createQuery(() => ({
    ...ask('/api/v1/surveys/{survey_id}/listings/{category}/folders', {
      params: { path, query: {} }
    }),
    enabled: open
  }));
  const manyPlaces = $derived((placesAsked.data?.length ?? 0) > 1);
  // one place alone is no choice: begin with what is in it
  const only = $derived(placesAsked.data?.length === 1 ? placesAsked.data[0] : undefined);
  const where = $derived(chosenFolder ?? (only ? { place: only.place, folder: '' } : null));
  const foldersAsked = createQuery(() => ({
    ...ask('/api/v1/surveys/{survey_id}/listings/{category}/folders', {
      params: { path, query: where ?? {} }
    }),
    enabled: open && placesAsked.data !== undefined
  }));
  const folders = $derived<FolderSum[]>(
    (foldersAsked.data ?? []).filter((sum) => !where || sum.folder !== where.folder)
  );
  const itemsAsked = createInfiniteQuery(() => ({
    ...askPages(
      '/api/v1/surveys/{survey_id}/listings/{category}',
      {
        params: { path, query: { limit: PAGE, largest_first: true, ...(chosenFolder ?? {}) } }
      },
      (last) => ({ after: last.number })
    ),
    enabled: open
  }));
  const items = $derived<ListedItem[]>(itemsOf(itemsAsked.data));
  function go(to: typeof chosenFolder) {
    chosenFolder = to;
  }

  $effect(() => {
    if (!open) return;
    untrack(() => {
      picked.clear();
      for (const [number, size] of Object.entries(chosen)) picked.set(Number(number), size);
      go(null);
    });
  });

  function pick(item: ListedItem, on: boolean) {
    if (on) picked.set(item.number, item.size);
    else picked.delete(item.number);
  }
  let picking = $state(false);
  async function pickProposed() {
    picking = true;
    await pickPages();
    picking = false;
  }
  async function pickPages() {
    // all of it, not only what is shown: page by page
    let after = 0;
    for (;;) {
      const { data, error } = await api.GET('/api/v1/surveys/{survey_id}/listings/{category}', {
        params: { path, query: { after, limit: 500, ...(chosenFolder ?? {}) } }
      });
      problem = error ? inWords(error) : '';
      for (const item of data ?? []) if (!item.reason) picked.set(item.number, item.size);
      if (!data || data.length < 500) return;
      after = data.at(-1)?.number ?? 0;
    }
  }
  const up = $derived.by(() => {
    if (!where?.folder) return where && manyPlaces ? { to: null } : null;
    const parent = where.folder.split('/').slice(0, -1).join('/');
    return { to: { place: where.place, folder: parent } };
  });
</script>

<Modal bind:open wide title={line.name}>
  {#if asks}
    <p>{line.cost} Only what you tick here goes, and only if it has not changed since.</p>
  {:else}
    <p>
      Nothing here is removed automatically. Go through the list with the client where it matters.
    </p>
  {/if}
  {#if problem}<p class="lossy">{problem}</p>{/if}
  {#if up || folders.length}
    <div class="mt-3" data-testid="folders">
      <p class="text-sm">
        {#if up}
          <button class="plain" onclick={() => go(up.to)}>Up</button>
          <code class="break-all">{where?.place}{where?.folder ? ` › ${where.folder}` : ''}</code>
        {:else}<span class="muted">By folder:</span>{/if}
      </p>
      <ul class="mt-1 flex flex-wrap gap-2">
        {#each folders.slice(0, 12) as sum (sum.place + '\n' + sum.folder)}
          <li>
            <button
              class="act text-sm"
              onclick={() => go({ place: sum.place, folder: sum.folder })}
            >
              <Folder aria-hidden="true" />
              <span class="max-w-72 truncate">{sum.folder.split('/').at(-1) || sum.place}</span>
              <span class="muted">{size(sum.holds.size)}</span>
            </button>
          </li>
        {/each}
      </ul>
    </div>
  {/if}
  <div class="mt-3 max-h-[45vh] overflow-auto">
    <table class="sheet">
      <caption class="sr-only">Items of this listing</caption>
      <thead>
        <tr>
          {#if asks}<td></td>{/if}
          <th scope="col">{line.category === 'programs' ? 'program' : 'what'}</th>
          <th scope="col" class="right">size</th>
          <th scope="col">{asks ? 'of' : 'last used'}</th>
          {#if asks}<th scope="col">the rule says</th>{/if}
        </tr>
      </thead>
      <tbody>
        {#each items as item (item.number)}
          <tr>
            {#if asks}
              <td>
                <input
                  type="checkbox"
                  aria-label="Let {item.path} go"
                  checked={picked.has(item.number)}
                  disabled={item.reason === 'in use' || item.reason === 'protected'}
                  onchange={(e) => pick(item, e.currentTarget.checked)}
                />
              </td>
            {/if}
            <td>
              <span class="path break-all">{item.path}</span>
              <div class="muted path break-all text-sm">{item.place}</div>
            </td>
            <td class="right whitespace-nowrap">{size(item.size)}</td>
            <td class="whitespace-nowrap">
              {#if item.aged_from}<When at={item.aged_from} />{:else}not known{/if}
            </td>
            {#if asks}
              <td class="whitespace-nowrap">{item.reason ? `stays: ${item.reason}` : 'may go'}</td>
            {/if}
          </tr>
        {:else}
          <tr>
            <td class="muted" colspan="5">
              {#if itemsAsked.data}Nothing is listed.{:else}<Failed query={itemsAsked} />{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if itemsAsked.hasNextPage}<button
        class="act my-3"
        disabled={itemsAsked.isFetchingNextPage}
        onclick={() => itemsAsked.fetchNextPage()}>Show more</button
      >{/if}
  </div>
  {#if asks}
    <div class="mt-4 flex flex-wrap items-center justify-between gap-2">
      <span>{count(picked.size, 'item')} ticked, {size(bytes)}</span>
      <span class="flex flex-wrap gap-2">
        <button class="act" onclick={pickProposed} disabled={!line.needs_yes.count || picking}>
          Tick what the rule proposes
        </button>
        <button class="act" onclick={() => picked.clear()}>Untick all</button>
        <button
          class="act main"
          disabled={picking}
          onclick={() => {
            onchosen(Object.fromEntries(picked));
            open = false;
          }}>Use this selection</button
        >
      </span>
    </div>
    {@render children?.()}
  {/if}
</Modal>
