<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { ask } from '$lib/api/queries';
  import type { LedgerLine, Schema } from '$lib/api/client';
  import type { ChosenItem } from '$lib/machines/volumes';
  import { count, size } from '$lib/words';
  import Folder from '@lucide/svelte/icons/folder';
  import { untrack, type Snippet } from 'svelte';
  import { SvelteMap } from 'svelte/reactivity';
  import Failed from './Failed.svelte';
  import ListingRows from './ListingRows.svelte';
  import Modal from './Modal.svelte';

  interface Props {
    open: boolean;
    surveyId: number;
    line: LedgerLine;
    /** Chosen so far, by number. */
    chosen: Record<number, ChosenItem>;
    onchosen: (chosen: Record<number, ChosenItem>) => void;
    children?: Snippet;
  }
  let { open = $bindable(), surveyId, line, chosen, onchosen, children }: Props = $props();

  type FolderSum = Schema['FolderSum'];
  let chosenFolder = $state<{ place: string; folder: string } | null>(null);
  const picked = new SvelteMap<number, ChosenItem>();
  const bytes = $derived([...picked.values()].reduce((sum, item) => sum + item.size, 0));
  const asks = $derived(line.caution === 'ask');
  const path = $derived({ survey_id: surveyId, category: line.category });

  const placesAsked = createQuery(() => ({
    ...ask('/api/v2/surveys/{survey_id}/listings/{category}/folders', {
      params: { path, query: {} }
    }),
    enabled: open
  }));
  const manyPlaces = $derived((placesAsked.data?.length ?? 0) > 1);
  // one place alone is no choice: begin with what is in it
  const only = $derived(placesAsked.data?.length === 1 ? placesAsked.data[0] : undefined);
  const where = $derived(chosenFolder ?? (only ? { place: only.place, folder: '' } : null));
  const foldersAsked = createQuery(() => ({
    ...ask('/api/v2/surveys/{survey_id}/listings/{category}/folders', {
      params: { path, query: where ?? {} }
    }),
    enabled: open && placesAsked.data !== undefined
  }));
  const folders = $derived<FolderSum[]>(
    (foldersAsked.data ?? []).filter((sum) => !where || sum.folder !== where.folder)
  );
  // all of them by number, so that each can be chosen; those that are seen are asked for
  const orderAsked = createQuery(() => ({
    ...ask('/api/v2/surveys/{survey_id}/listings/{category}/order', {
      params: { path, query: chosenFolder ?? {} }
    }),
    enabled: open
  }));
  const order = $derived(orderAsked.data);
  function go(to: typeof chosenFolder) {
    chosenFolder = to;
  }

  $effect(() => {
    if (!open) return;
    untrack(() => {
      picked.clear();
      for (const [number, item] of Object.entries(chosen)) picked.set(Number(number), item);
      go(null);
    });
  });

  function itemAt(place: number): ChosenItem {
    const mount = order?.mounts[order.on[place] ?? -1] ?? '';
    return { size: order?.sizes[place] ?? 0, mount };
  }
  function pick(number: number, on: boolean) {
    if (on) picked.set(number, itemAt(order?.numbers.indexOf(number) ?? -1));
    else picked.delete(number);
  }
  function pickProposed() {
    order?.numbers.forEach((number, place) => {
      if (order.proposed[place]) picked.set(number, itemAt(place));
    });
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
              <span class="muted">{size(sum.total.size)}</span>
            </button>
          </li>
        {/each}
      </ul>
    </div>
  {/if}
  {#if order?.numbers.length}
    <ListingRows
      {surveyId}
      category={line.category}
      numbers={order.numbers}
      sizes={order.sizes}
      {asks}
      isPicked={(number) => picked.has(number)}
      onpick={pick}
    />
  {:else}
    <p class="muted mt-3">
      {#if order}Nothing is listed.{:else}<Failed query={orderAsked} />{/if}
    </p>
  {/if}
  {#if asks}
    <div class="mt-4 flex flex-wrap items-center justify-between gap-2">
      <span>{count(picked.size, 'item')} ticked, {size(bytes)}</span>
      <span class="flex flex-wrap gap-2">
        <button class="act" onclick={pickProposed} disabled={!line.needs_approval.count || !order}>
          Tick what the rule proposes
        </button>
        <button class="act" onclick={() => picked.clear()}>Untick all</button>
        <button
          class="act main"
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
