<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import {
    api,
    inWords,
    type Ledger,
    type LedgerLine,
    type Machine,
    type Schema
  } from '$lib/api/client';
  import { startRun } from '$lib/api/runs';
  import { ask, refresh } from '$lib/api/queries';
  import { useMay } from '$lib/session';
  import {
    allBut,
    byVolume,
    lets as letsOn,
    listed,
    partsOn,
    type ChosenItem
  } from '$lib/machines/volumes';
  import { Bit } from '$lib/later.svelte';
  import { origins } from '$lib/rule';
  import { count, daysOf, size } from '$lib/words';
  import ListChecks from '@lucide/svelte/icons/list-checks';
  import { SvelteSet } from 'svelte/reactivity';
  import Listing from './Listing.svelte';
  import Modal from './Modal.svelte';
  import RuleEdit from './RuleEdit.svelte';
  import Standing from './Standing.svelte';
  import When from './When.svelte';

  interface Props {
    machine: Machine;
    ledger: Ledger;
    busy: boolean;
    /** Volumes that are left out of a cleaning. */
    leftOut: ReadonlySet<string>;
    /** While a survey goes on: the categories that it has covered. */
    fresh: ReadonlySet<string>;
    onrules: () => void;
    onstarted: () => void;
  }
  const may = useMay();
  let { machine, ledger, busy, leftOut, fresh, onrules, onstarted }: Props = $props();

  /** Chosen items of `ask` categories, by their number in this survey's listing. */
  type Agreed = Record<string, Record<number, ChosenItem>>;

  const bit = new Bit(() => ledger.lines.length, 3);
  const picked = new SvelteSet<string>();
  let agreed = $state<Agreed>({});
  let shown = $state<string | null>(null);
  let listing = $state<LedgerLine | null>(null);
  let listingOpen = $state(false);
  let ruled = $state<LedgerLine | null>(null);
  let ruleOpen = $state(false);
  let asking = $state(false);
  let word = $state('');
  let problem = $state('');
  let starting = $state(false);

  const standingAsked = createQuery(() =>
    ask('/api/v1/machines/{machine}/standing-consents', {
      params: { path: { machine: machine.tag } }
    })
  );
  const standing = $derived((standingAsked.data ?? []).filter((consent) => !consent.taken_back_at));
  const standingFor = (line: LedgerLine) => standing.find((s) => s.category === line.category);
  /** Whether a line may be ticked as a whole: it goes by its rule, without a choice of items. */
  const byRule = (line: LedgerLine) => line.caution === 'safe' || standingFor(line) !== undefined;
  const lets = (line: LedgerLine) => letsOn(line, leftOut);
  const isIn = (item: ChosenItem) => !leftOut.has(item.mount);

  // a draft for each survey, so that a reload or a wrong key loses nothing
  const draft = $derived(`phylax-ticked-${ledger.survey_id}`);
  $effect(() => {
    picked.clear();
    const kept = sessionStorage.getItem(draft);
    if (kept) {
      const { keys, yes } = JSON.parse(kept) as { keys: string[]; yes: Agreed };
      for (const key of keys) picked.add(key);
      agreed = yes;
      return;
    }
    agreed = {};
    for (const line of ledger.lines) {
      if (line.caution === 'safe' && line.goes.count) picked.add(line.category);
    }
  });
  function keepDraft() {
    sessionStorage.setItem(draft, JSON.stringify({ keys: [...picked], yes: agreed }));
  }

  function pick(key: string, on: boolean) {
    if (on) picked.add(key);
    else picked.delete(key);
    keepDraft();
  }
  function choose(key: string, chosen: Record<number, ChosenItem>) {
    const { [key]: _, ...others } = agreed;
    agreed = Object.keys(chosen).length ? { ...others, [key]: chosen } : others;
    keepDraft();
  }
  const tickedOf = (line: LedgerLine) => Object.values(agreed[line.category] ?? {}).filter(isIn);
  const numbersOf = (line: LedgerLine) =>
    Object.entries(agreed[line.category] ?? {})
      .filter(([, item]) => isIn(item))
      .map(([number]) => Number(number));
  const bytesOf = (line: LedgerLine) => tickedOf(line).reduce((sum, item) => sum + item.size, 0);

  const safe = $derived(
    ledger.lines.filter(
      (l) => picked.has(l.category) && byRule(l) && !agreed[l.category] && lets(l).count
    )
  );
  const yes = $derived(ledger.lines.filter((l) => tickedOf(l).length));
  const sum = $derived(
    safe.reduce((s, l) => s + lets(l).size, 0) + yes.reduce((s, l) => s + bytesOf(l), 0)
  );
  const chosen = $derived(safe.length + yes.length);
  // of what is cleaned, what its rule keeps, by reason; all else is left untouched anyway
  const left = $derived.by(() => {
    const sums: Record<string, { count: number; size: number }> = {};
    for (const stay of safe.flatMap((l) => partsOn(l, leftOut).flatMap((p) => p.stays ?? []))) {
      const sum = (sums[stay.reason] ??= { count: 0, size: 0 });
      sum.count += stay.count;
      sum.size += stay.size;
    }
    return Object.entries(sums).filter(([, sum]) => sum.count);
  });

  const volumes = $derived(byVolume(ledger, safe, yes.flatMap(tickedOf)));
  const isHeld = (line: LedgerLine) => daysOf(line.hold_for ?? 'P0D') > 0;
  const what = (line: LedgerLine) =>
    agreed[line.category]
      ? `the ${count(numbersOf(line).length, 'item')} you chose, ${size(bytesOf(line))}`
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
      const { data, error } = await api.POST('/api/v1/consents', {
        body: {
          survey_id: ledger.survey_id,
          category: line.category,
          whole: false,
          numbers: numbersOf(line),
          via: 'console',
          word
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
      volumes: allBut(leftOut)
    });
    starting = false;
    if (error) {
      problem = inWords(error);
      return;
    }
    begun = true;
    asking = false;
    sessionStorage.removeItem(draft);
    onstarted();
  }
</script>

<p class="muted text-sm" role="status">
  {#if ledger.whole}
    <Term of="survey">Looked at</Term>
    <When at={ledger.taken_at} />. {count(ledger.lines.length, 'category')}.
    {#each ledger.volumes.filter((volume) => volume.looked_at) as volume (volume.mount)}
      <span class="lookhere"
        ><code>{volume.mount}</code> was left out; shown as of <When at={volume.looked_at} />.</span
      >
    {/each}
  {:else}
    <span class="lookhere">In part:</span> the survey has covered {count(fresh.size, 'category')}
    so far, or was stopped{#if ledger.lines.length > fresh.size}; the others are as they were{/if}.
  {/if}
</p>
<div class="overflow-x-auto">
  <table class="sheet cards" data-testid="ledger">
    <caption class="sr-only">What goes and what stays, by category</caption>
    <thead>
      <tr>
        <td></td>
        <th scope="col"><Term of="category" /></th>
        <th scope="col" class="right">holds</th>
        <th scope="col" class="right">goes</th>
        <th scope="col">stays, and why</th>
        <th scope="col"><Term of="retention rule">rule in force</Term></th>
      </tr>
    </thead>
    <tbody>
      {#each ledger.lines.slice(0, bit.drawn) as line (line.category)}
        {@const mine = agreed[line.category]}
        <tr class:muted={!ledger.whole && !fresh.has(line.category)}>
          <td class="w-8">
            {#if byRule(line) && ledger.whole && may.work}
              <input
                type="checkbox"
                aria-label="Clean {line.name}"
                checked={picked.has(line.category)}
                disabled={!lets(line).count || Boolean(mine)}
                onchange={(e) => pick(line.category, e.currentTarget.checked)}
              />
            {/if}
          </td>
          <td class="min-w-56">
            <button
              class="plain text-left"
              aria-expanded={shown === line.category}
              onclick={() => (shown = shown === line.category ? null : line.category)}
              >{line.name}</button
            >
            <div class="muted text-sm">{line.cost}</div>
            {#if (line.places ?? []).length}
              <details class="text-sm">
                <summary>
                  {count((line.places ?? []).length, 'profile')}{#if line.programs_open.length},
                    <span class="lookhere">open: {line.programs_open.join(', ')}</span>{/if}
                </summary>
                <ul data-testid="places">
                  {#each line.places ?? [] as place (place.place)}
                    <li title={place.place}>
                      {place.user ? `${place.user}, ` : ''}{place.label}:
                      {size(place.holds.size)}{#if place.programs_open?.length},
                        <span class="lookhere">open: {place.programs_open.join(', ')}</span>{/if}
                    </li>
                  {/each}
                </ul>
              </details>
            {:else if line.programs_open.length}
              <div class="lookhere text-sm">Open: {line.programs_open.join(', ')}</div>
            {/if}
            {#if line.unread_count}
              <details class="lookhere text-sm">
                <summary>{count(line.unread_count, 'place')} could not be looked at</summary>
                <ul>
                  {#each line.unread ?? [] as one (one.path)}
                    <li><span class="path break-all">{one.path}</span>: {one.why}</li>
                  {/each}
                </ul>
              </details>
            {/if}
          </td>
          <td class="right whitespace-nowrap" data-label="holds">{size(line.holds.size)}</td>
          <td class="right whitespace-nowrap" data-label="goes">
            {#if line.caution === 'report'}
              <button
                class="act"
                onclick={() => {
                  listing = line;
                  listingOpen = true;
                }}
                disabled={!line.holds.count || !ledger.whole}
              >
                <ListChecks aria-hidden="true" />See the list
              </button>
            {:else if line.caution === 'ask'}
              <button
                class="act"
                onclick={() => {
                  listing = line;
                  listingOpen = true;
                }}
                disabled={!line.holds.count || !ledger.whole}
              >
                <ListChecks aria-hidden="true" />
                {mine
                  ? `${size(bytesOf(line))} chosen`
                  : lets(line).count
                    ? `${size(lets(line).size)} needs a yes`
                    : 'Choose items'}
              </button>
              {#if standingFor(line)}<div class="muted text-sm">standing consent</div>{/if}
            {:else}
              <strong>{size(lets(line).size)}</strong>
            {/if}
          </td>
          <td class="min-w-44" data-label="stays, and why">
            {#each line.stays as stay (stay.reason)}
              <div><span class="whitespace-nowrap">{size(stay.size)}</span> {stay.reason}</div>
            {:else}<span class="muted">nothing stays</span>{/each}
            {#if line.kept_sites}
              <div class="muted text-sm">{count(line.kept_sites, 'site')} kept signed in</div>
            {/if}
          </td>
          <td class="min-w-44" data-label="rule in force">
            {line.rule_in_words}
            {#if line.pressed}
              <div class="lookhere text-sm">short of space: the shorter span counts</div>
            {/if}
            <div class="muted text-sm">
              {origins(line.rule, line.caution)}{#if may.work};
                <button
                  class="plain"
                  onclick={() => {
                    ruled = line;
                    ruleOpen = true;
                  }}>change for this machine</button
                >{/if}
            </div>
          </td>
        </tr>
        {#if shown === line.category}
          <tr>
            <td></td>
            <td colspan="5">
              <p class="muted text-sm">The largest:</p>
              <table class="w-full text-sm">
                <caption class="sr-only">The largest of {line.name}</caption>
                <tbody>
                  {#each line.largest as item (item.place + item.path)}
                    <tr>
                      <td class="right w-24 whitespace-nowrap pr-3">{size(item.size)}</td>
                      <td class="w-40 whitespace-nowrap">
                        {#if item.aged_from}<When at={item.aged_from} />{:else}not known{/if}
                      </td>
                      <td>
                        <span class="path break-all">{item.path}</span>
                        <div class="muted path break-all text-sm">{item.place}</div>
                      </td>
                      <td class="muted whitespace-nowrap">{item.reason ?? 'goes'}</td>
                    </tr>
                  {/each}
                </tbody>
              </table>
            </td>
          </tr>
        {/if}
      {/each}
    </tbody>
  </table>
</div>
<div
  class:sticky={chosen > 0}
  class:hidden={!ledger.whole || !may.work}
  class="noprint bottom-0 max-sm:bottom-[4.25rem] flex flex-wrap items-center justify-between gap-3 border-t border-[var(--line)] bg-[var(--raised)] px-3 py-3"
>
  <span>
    Chosen: <strong data-testid="chosen-sum">{size(sum)}</strong>
    <span class="muted">in {count(chosen, 'category')}</span>
    {#if leftOut.size}<span class="lookhere">· not on {listed([...leftOut])}</span>{/if}
  </span>
  <button
    class="act main"
    disabled={!chosen || busy || !ledger.whole}
    onclick={() => (asking = true)}
  >
    {busy ? 'The machine is busy' : 'Clean…'}
  </button>
</div>

{#if listing}
  <Listing
    bind:open={listingOpen}
    surveyId={ledger.survey_id}
    line={listing}
    chosen={agreed[listing.category] ?? {}}
    onchosen={(chosen) => listing && choose(listing.category, chosen)}
  >
    <Standing
      {machine}
      line={listing}
      given={standingFor(listing)}
      onchanged={() => refresh('/api/v1/machines/{machine}/standing-consents')}
    />
  </Listing>
{/if}
{#if ruled}
  <RuleEdit bind:open={ruleOpen} {machine} line={ruled} onsaved={onrules} />
{/if}

<Modal bind:open={asking} wide title="Clean {machine.tag}?" {focusAfter}>
  <div class="space-y-4" data-testid="clean-dialogue">
    {#if forGood.length}
      <div>
        <p class="lossy font-semibold">Gone for good, about {size(bytesIn(forGood))}:</p>
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
    {#if problem}<p class="lossy" role="alert">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="act" onclick={() => (asking = false)}>Cancel</button>
      <button class="act loss" onclick={clean} disabled={starting}>
        {starting ? 'Asking the machine…' : 'Clean now'}
      </button>
    </div>
  </div>
</Modal>
