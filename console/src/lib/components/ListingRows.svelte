<script lang="ts">
  import { createVirtualizer } from '@tanstack/svelte-virtual';
  import type { ListedItem } from '$lib/api/client';
  import { ask } from '$lib/api/queries';
  import { SeenRows, spaceAround } from '$lib/api/seen.svelte';
  import { size } from '$lib/words';
  import { untrack } from 'svelte';
  import Failed from './Failed.svelte';
  import When from './When.svelte';

  interface Props {
    surveyId: number;
    category: string;
    numbers: readonly number[];
    /** Bytes, in the order of the numbers. */
    sizes: readonly number[];
    /** Whether each can be ticked. */
    asks: boolean;
    isPicked: (number: number) => boolean;
    onpick: (number: number, on: boolean) => void;
  }
  let { surveyId, category, numbers, sizes, asks, isPicked, onpick }: Props = $props();

  const ROW = 58;
  const list = new SeenRows<ListedItem>(
    () => numbers,
    (some) =>
      ask('/api/v2/surveys/{survey_id}/listings/{category}', {
        params: { path: { survey_id: surveyId, category }, query: { number: some } }
      }),
    (item) => item.number
  );

  // only the rows that are seen are drawn
  let box = $state<HTMLElement>();
  const rows = createVirtualizer<HTMLElement, HTMLTableRowElement>({
    count: 0,
    getScrollElement: () => box ?? null,
    estimateSize: () => ROW,
    overscan: 8
  });
  $effect(() => {
    const all = numbers;
    const scrolled = box;
    untrack(() => {
      $rows.setOptions({
        count: all.length,
        getScrollElement: () => scrolled ?? null,
        getItemKey: (index) => all[index] ?? index
      });
      $rows.scrollToOffset(0);
    });
  });
  const drawn = $derived($rows.getVirtualItems());
  const space = $derived(drawn.length ? spaceAround($rows) : { above: 0, below: 0 });
  const columns = $derived(asks ? 5 : 3);
  $effect(() => {
    const first = drawn[0]?.index ?? 0;
    const last = drawn.at(-1)?.index ?? 0;
    untrack(() => list.show(first, last));
  });
  /** Rows are as high as their paths need. */
  function measured(row: HTMLTableRowElement) {
    $rows.measureElement(row);
  }
</script>

{#if list.failed}<Failed query={list.failed} />{/if}
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div
  class="mt-3 max-h-[45vh] overflow-auto"
  bind:this={box}
  role="region"
  aria-label="Items"
  tabindex="0"
  data-testid="items"
>
  <table class="sheet" aria-rowcount={numbers.length + 1}>
    <caption class="sr-only">Items of this listing, largest first</caption>
    <thead>
      <tr>
        {#if asks}<td></td>{/if}
        <th scope="col">{category === 'programs' ? 'program' : 'what'}</th>
        <th scope="col" class="right">size</th>
        <th scope="col">{asks ? 'of' : 'last used'}</th>
        {#if asks}<th scope="col">the rule says</th>{/if}
      </tr>
    </thead>
    <tbody>
      {#if space.above}<tr aria-hidden="true"
          ><td colspan={columns} style:height="{space.above}px"></td></tr
        >{/if}
      {#each drawn as { index } (numbers[index] ?? index)}
        {@const number = numbers[index] ?? 0}
        {@const item = list.row(number)}
        <tr data-index={index} aria-rowindex={index + 2} use:measured>
          {#if item}
            {#if asks}
              <td>
                <input
                  type="checkbox"
                  aria-label="Let {item.path} go"
                  checked={isPicked(number)}
                  disabled={item.reason === 'in use' || item.reason === 'protected'}
                  onchange={(e) => onpick(number, e.currentTarget.checked)}
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
          {:else}
            <td colspan={columns} style:height="{ROW}px" class="muted">… {size(sizes[index])}</td>
          {/if}
        </tr>
      {/each}
      {#if space.below}<tr aria-hidden="true"
          ><td colspan={columns} style:height="{space.below}px"></td></tr
        >{/if}
    </tbody>
  </table>
</div>
