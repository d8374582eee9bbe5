<script lang="ts">
  import { api, inWords, type LedgerLine, type ListedItem } from '$lib/api/client';
  import { count, size } from '$lib/words';
  import { untrack } from 'svelte';
  import { SvelteSet } from 'svelte/reactivity';
  import Modal from './Modal.svelte';
  import When from './When.svelte';

  interface Props {
    open: boolean;
    surveyId: number;
    line: LedgerLine;
    chosen: number[];
    onchosen: (numbers: number[], bytes: number) => void;
  }
  let { open = $bindable(), surveyId, line, chosen, onchosen }: Props = $props();

  const PAGE = 200;
  let items = $state<ListedItem[]>([]);
  let more = $state(true);
  let problem = $state('');
  const picked = new SvelteSet<number>();
  const bytes = $derived(items.filter((i) => picked.has(i.number)).reduce((s, i) => s + i.size, 0));

  async function load() {
    const { data, error } = await api.GET('/api/v1/surveys/{survey_id}/listings/{category}', {
      params: {
        path: { survey_id: surveyId, category: line.category },
        query: { after: items.at(-1)?.number ?? 0, limit: PAGE }
      }
    });
    if (!data) {
      problem = inWords(error);
      return;
    }
    items = [...items, ...data];
    more = data.length === PAGE;
  }

  $effect(() => {
    if (!open) return;
    untrack(() => {
      items = [];
      picked.clear();
      for (const number of chosen) picked.add(number);
      void load();
    });
  });

  function pick(number: number, on: boolean) {
    if (on) picked.add(number);
    else picked.delete(number);
  }
  function pickProposed() {
    for (const item of items) if (!item.reason) picked.add(item.number);
  }
</script>

<Modal bind:open wide title={line.name}>
  <p>{line.cost} Only what you tick here goes, and only if it has not changed since.</p>
  {#if problem}<p class="lossy">{problem}</p>{/if}
  <div class="mt-3 max-h-[50vh] overflow-auto">
    <table class="sheet">
      <thead>
        <tr><td></td><th>file</th><th class="right">size</th><th>of</th><th>the rule says</th></tr>
      </thead>
      <tbody>
        {#each items as item (item.number)}
          <tr>
            <td>
              <input
                type="checkbox"
                aria-label="Let {item.path} go"
                checked={picked.has(item.number)}
                disabled={item.reason === 'in use'}
                onchange={(e) => pick(item.number, e.currentTarget.checked)}
              />
            </td>
            <td><span class="path break-all">{item.path}</span></td>
            <td class="right whitespace-nowrap">{size(item.size)}</td>
            <td class="whitespace-nowrap"><When at={item.aged_from} /></td>
            <td class="whitespace-nowrap">{item.reason ? `stays: ${item.reason}` : 'may go'}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if more}<button class="act my-3" onclick={load}>Show more</button>{/if}
  </div>
  <div class="mt-4 flex flex-wrap items-center justify-between gap-2">
    <span>{count(picked.size, 'file')} ticked, {size(bytes)}</span>
    <span class="flex flex-wrap gap-2">
      <button class="act" onclick={pickProposed} disabled={!line.needs_yes.count}>
        Tick what the rule proposes
      </button>
      <button class="act" onclick={() => picked.clear()}>Tick nothing</button>
      <button
        class="act main"
        onclick={() => {
          onchosen([...picked], bytes);
          open = false;
        }}>Take this choice</button
      >
    </span>
  </div>
</Modal>
