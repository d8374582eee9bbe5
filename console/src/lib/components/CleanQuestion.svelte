<script lang="ts">
  import { api, inWords, type Ledger, type LedgerLine, type Machine } from '$lib/api/client';
  import { startRun } from '$lib/api/runs';
  import {
    allBut,
    byVolume,
    lets as letsOn,
    listed,
    partsOn,
    tickedOn,
    type Agreed
  } from '$lib/machines/volumes';
  import { count, daysOf, size } from '$lib/words';
  import Modal from './Modal.svelte';
  import When from './When.svelte';

  interface Props {
    open: boolean;
    machine: Machine;
    ledger: Ledger;
    leftOut: ReadonlySet<string>;
    /** What goes by its rule. */
    safe: LedgerLine[];
    /** Of what items were ticked one by one. */
    yes: LedgerLine[];
    agreed: Agreed;
    onbegun: () => void;
  }
  let {
    open = $bindable(),
    machine,
    ledger,
    leftOut,
    safe,
    yes,
    agreed,
    onbegun
  }: Props = $props();
  let word = $state('');
  let problem = $state('');
  let starting = $state(false);
  const lets = (line: LedgerLine) => letsOn(line, leftOut);
  const tickedOf = (line: LedgerLine) => tickedOn(line, agreed, leftOut);
  const bytesOf = (line: LedgerLine) =>
    tickedOf(line).reduce((sum, [, item]) => sum + item.size, 0);

  // of what is cleaned, what its rule keeps, by reason; all else is left untouched anyway
  const left = $derived.by(() => {
    const sums: Record<string, { count: number; size: number }> = {};
    for (const stay of safe.flatMap((l) => partsOn(l, leftOut).flatMap((p) => p.kept ?? []))) {
      const sum = (sums[stay.reason] ??= { count: 0, size: 0 });
      sum.count += stay.count;
      sum.size += stay.size;
    }
    return Object.entries(sums).filter(([, sum]) => sum.count);
  });

  const volumes = $derived(
    byVolume(
      ledger,
      safe,
      yes.flatMap(tickedOf).map(([, item]) => item)
    )
  );
  const isHeld = (line: LedgerLine) => daysOf(line.hold_for ?? 'P0D') > 0;
  const what = (line: LedgerLine) =>
    agreed[line.category]
      ? `the ${count(tickedOf(line).length, 'item')} you chose, ${size(bytesOf(line))}`
      : `${count(lets(line).count, 'item')}, ${size(lets(line).size)}`;
  const bytesIn = (lines: LedgerLine[]) =>
    lines.reduce((s, l) => s + (agreed[l.category] ? bytesOf(l) : lets(l).size), 0);
  const forGood = $derived([...safe, ...yes].filter((l) => !isHeld(l)));
  const held = $derived([...safe, ...yes].filter(isHeld));
  const until = (line: LedgerLine) =>
    new Date(Date.now() + daysOf(line.hold_for ?? 'P0D') * 86_400_000).toISOString();

  /** Once it has started, to what is going on: the button that was pressed cannot be any more. */
  const focusAfter = () =>
    begun ? (document.getElementById('work') ?? document.getElementById('ledger')) : null;
  let begun = false;
  async function clean() {
    starting = true;
    begun = false;
    problem = '';
    const consents: number[] = [];
    for (const line of yes) {
      const { data, error } = await api.POST('/api/v2/consents', {
        body: {
          survey_id: ledger.survey_id,
          category: line.category,
          whole: false,
          numbers: tickedOf(line).map(([number]) => number),
          via: 'console',
          comment: word
        }
      });
      if (!data) {
        problem = inWords(error);
        starting = false;
        return;
      }
      consents.push(data.id);
    }
    const { error } = await startRun({
      machine_id: machine.id,
      work: 'clean',
      categories: [...safe, ...yes].map((l) => l.category),
      consent_ids: consents,
      volumes: allBut(leftOut),
      // what was shown is what is done, or nothing is
      survey_id: ledger.survey_id
    });
    starting = false;
    if (error) {
      problem = inWords(error);
      return;
    }
    begun = true;
    open = false;
    onbegun();
  }
</script>

<Modal bind:open wide title="Clean {machine.tag}?" {focusAfter}>
  <div class="space-y-4" data-testid="clean-dialogue">
    {#if forGood.length}
      <div>
        <p class="lossy font-semibold">Deleted for good, about {size(bytesIn(forGood))}:</p>
        <ul class="mt-1 list-disc gap-x-8 space-y-1 pl-5 sm:columns-2">
          {#each forGood as line (line.category)}<li>{line.name}: {what(line)}</li>{/each}
        </ul>
      </div>
    {/if}
    {#if held.length}
      <div>
        <p class="font-semibold">
          Held first, about {size(bytesIn(held))}; until then it can be put back, and its space
          stays taken:
        </p>
        <ul class="mt-1 list-disc space-y-1 pl-5">
          {#each held as line (line.category)}
            <li>{line.name}: {what(line)}, until <When at={until(line)} /></li>
          {/each}
        </ul>
      </div>
    {/if}
    <div>
      <p class="font-semibold">Left as it is:</p>
      <ul class="mt-1 list-disc gap-x-8 space-y-1 pl-5 sm:columns-2">
        {#each left as [reason, sum] (reason)}
          <li>{reason}: {count(sum.count, 'item')}, {size(sum.size)}</li>
        {/each}
        {#if leftOut.size}<li>Everything on {listed([...leftOut])}</li>{/if}
        <li>Whatever is in use by then, and everything you did not tick</li>
      </ul>
    </div>
    {#if volumes.length > 1}
      <p data-testid="by-volume">
        <span class="font-semibold">By volume:</span>
        {#each volumes as volume, n (volume.mount)}{n ? '; ' : ''}<code>{volume.mount}</code
          >{leftOut.has(volume.mount)
            ? ' left out'
            : ` ${count(volume.goes.count, 'item')}, ${size(volume.goes.size)}`}{/each}.
      </p>
    {/if}
    {#if yes.length}
      <label class="field">
        <span>What the client said (for the record)</span>
        <input class="box" bind:value={word} maxlength="400" placeholder="asked by phone" />
      </label>
    {/if}
    {#if problem}<p
        class="lossy"
        role="alert"
        {@attach (node) => node.scrollIntoView({ block: 'center' })}
      >
        {problem}
      </p>{/if}
    <div class="flex justify-end gap-2">
      <button class="act" onclick={() => (open = false)}>Cancel</button>
      <button class="act loss" onclick={clean} disabled={starting}>
        {starting ? 'Asking the machine…' : 'Clean now'}
      </button>
    </div>
  </div>
</Modal>
