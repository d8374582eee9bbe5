<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
  import { inWords, type Machine, type Schema } from '$lib/api/client';
  import { startRun } from '$lib/api/runs';
  import { ask, askPages, itemsOf } from '$lib/api/queries';
  import { count, size } from '$lib/words';
  import Undo2 from '@lucide/svelte/icons/undo-2';
  import { SvelteSet } from 'svelte/reactivity';
  import Failed from './Failed.svelte';
  import Modal from './Modal.svelte';
  import When from './When.svelte';

  interface Props {
    machine: Machine;
    /** Categories' names by their keys, as far as they are known. */
    names: Record<string, string>;
    busy: boolean;
    mayChange: boolean;
    onstarted: () => void;
  }
  let { machine, names, busy, mayChange, onstarted }: Props = $props();

  type Hold = Schema['Hold'];
  type HeldItem = Schema['HeldItem'];

  let openedId = $state<number | null>(null);
  let words = $state('');
  let beside = $state(false);
  let problem = $state('');
  let asked = $state(false);
  let ending = $state<Hold | null>(null);
  let endOpen = $state(false);
  const picked = new SvelteSet<number>();

  const tag = $derived(machine.tag);
  const holdsAsked = createQuery(() =>
    ask('/api/v2/machines/{machine}/holds', { params: { path: { machine: tag } } })
  );
  const holds = $derived(holdsAsked.data ?? []);
  const opened = $derived(holds.find((hold) => hold.id === openedId) ?? null);
  const itemsAsked = createInfiniteQuery(() => ({
    ...askPages(
      '/api/v2/holds/{hold_id}/items',
      { params: { path: { hold_id: opened?.id ?? 0 }, query: { words, limit: 100 } } },
      (last) => ({ after: last.number })
    ),
    enabled: opened !== null
  }));
  const items = $derived(itemsOf<HeldItem>(itemsAsked.data));

  function open(hold: Hold) {
    openedId = openedId === hold.id ? null : hold.id;
    picked.clear();
    words = '';
  }

  async function order(work: 'put back' | 'let go', hold: Hold, numbers: number[]) {
    asked = true;
    const { error } = await startRun({
      machine_id: machine.id,
      work,
      held: [{ hold_id: hold.id, numbers }],
      if_taken: beside ? 'beside' : 'leave'
    });
    asked = false;
    problem = error ? inWords(error) : '';
    endOpen = false;
    if (!error) {
      picked.clear();
      onstarted();
    }
  }
</script>

{#if holdsAsked.error}<Failed query={holdsAsked} />{/if}
{#if holds.length}
  <section class="mt-8" aria-labelledby="held" data-testid="held">
    <h2 id="held"><Term of="hold">Held</Term></h2>
    <p class="muted text-sm">
      Cleaned, but still on the machine: it can be put back where it was. It takes up its space
      until it is removed for good.
    </p>
    <ul class="ruled mt-2">
      {#each holds as hold (hold.id)}
        <li class="py-2">
          <div class="flex flex-wrap items-center justify-between gap-2">
            <span>
              <button
                class="plain text-left"
                aria-expanded={opened?.id === hold.id}
                onclick={() => open(hold)}>{names[hold.category] ?? hold.category}</button
              >: {count(hold.held.count, 'item')},
              {size(hold.held.size)}
              <span class="muted">
                on <code>{hold.mount}</code>, held until <When
                  at={hold.expires_at}
                />{#if hold.put_back.count}; {count(hold.put_back.count, 'item')} put back{/if}
              </span>
            </span>
            {#if mayChange}
              <span class="noprint flex gap-2">
                <button
                  class="act"
                  disabled={busy || asked}
                  onclick={() => order('put back', hold, [])}
                >
                  <Undo2 aria-hidden="true" />Put all back
                </button>
                <button
                  class="act"
                  disabled={busy || asked}
                  onclick={() => {
                    ending = hold;
                    endOpen = true;
                  }}>Delete now…</button
                >
              </span>
            {/if}
          </div>
          {#if opened?.id === hold.id}
            <div class="mt-2 space-y-2 border-l-2 border-[var(--line)] pl-4">
              <div class="flex flex-wrap items-center gap-3">
                <label class="sr-only" for="held-words">Filter by path</label>
                <input
                  id="held-words"
                  class="box w-64"
                  placeholder="Filter by path"
                  bind:value={words}
                />
                {#if mayChange}
                  <button
                    class="act main"
                    disabled={!picked.size || busy || asked}
                    onclick={() => order('put back', hold, [...picked])}
                  >
                    <Undo2 aria-hidden="true" />{picked.size
                      ? `Put ${count(picked.size, 'item')} back`
                      : 'Put the chosen back'}
                  </button>
                  <label class="flex items-center gap-2 text-sm">
                    <input type="checkbox" bind:checked={beside} />
                    if the name is taken again, put it back beside it under another name
                  </label>
                {/if}
              </div>
              <table class="w-full text-sm">
                <caption class="sr-only">Held things</caption>
                <tbody>
                  {#each items as item (item.number)}
                    <tr>
                      <td class="w-8">
                        {#if item.status === 'held' && mayChange}
                          <input
                            type="checkbox"
                            aria-label="Put {item.path} back"
                            checked={picked.has(item.number)}
                            onchange={(e) =>
                              e.currentTarget.checked
                                ? picked.add(item.number)
                                : picked.delete(item.number)}
                          />
                        {/if}
                      </td>
                      <td class="right w-24 whitespace-nowrap pr-3">{size(item.size)}</td>
                      <td>
                        <span class="path break-all">{item.path}</span>
                        <div class="muted path break-all">{item.place}</div>
                      </td>
                      <td class="muted whitespace-nowrap">
                        {item.status}{#if item.status_at}&nbsp;<When at={item.status_at} />{/if}
                      </td>
                    </tr>
                  {:else}
                    <tr
                      ><td class="muted"
                        >{#if itemsAsked.data}Nothing matches.{:else}<Failed
                            query={itemsAsked}
                          />{/if}</td
                      ></tr
                    >
                  {/each}
                </tbody>
              </table>
              {#if itemsAsked.hasNextPage}
                <button
                  class="act"
                  disabled={itemsAsked.isFetchingNextPage}
                  onclick={() => itemsAsked.fetchNextPage()}>Show more</button
                >
              {/if}
            </div>
          {/if}
        </li>
      {/each}
    </ul>
    {#if problem}<p class="lossy mt-2">{problem}</p>{/if}
  </section>
{/if}

<Modal bind:open={endOpen} title="Delete now?">
  {#if ending}
    <div class="space-y-4">
      <p class="lossy font-semibold">
        Deleted for good: {count(ending.held.count, 'item')}, {size(ending.held.size)} held of
        {names[ending.category] ?? ending.category}.
      </p>
      <p>Otherwise they are removed by themselves <When at={ending.expires_at} />.</p>
      <div class="flex justify-end gap-2">
        <button class="act" onclick={() => (endOpen = false)}>Cancel</button>
        <button
          class="act loss"
          disabled={asked}
          onclick={() => ending && order('let go', ending, [])}>Delete now</button
        >
      </div>
    </div>
  {/if}
</Modal>
