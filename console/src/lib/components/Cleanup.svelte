<script lang="ts">
  import Term from '$lib/components/Term.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import type { Ledger, LedgerLine, Machine } from '$lib/api/client';
  import { ask, refresh } from '$lib/api/queries';
  import { useMay } from '$lib/session';
  import {
    lets as letsOn,
    listed,
    tickedOn,
    type Agreed,
    type ChosenItem
  } from '$lib/machines/volumes';
  import { Bit } from '$lib/later.svelte';
  import { origins } from '$lib/rule';
  import { count, size } from '$lib/words';
  import ListChecks from '@lucide/svelte/icons/list-checks';
  import { SvelteSet } from 'svelte/reactivity';
  import CleanQuestion from './CleanQuestion.svelte';
  import Listing from './Listing.svelte';
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

  const bit = new Bit(() => ledger.lines.length, 3);
  const picked = new SvelteSet<string>();
  let agreed = $state<Agreed>({});
  let shown = $state<string | null>(null);
  let listing = $state<LedgerLine | null>(null);
  let listingOpen = $state(false);
  let ruled = $state<LedgerLine | null>(null);
  let ruleOpen = $state(false);
  let asking = $state(false);

  const standingAsked = createQuery(() =>
    ask('/api/v2/machines/{machine}/standing-consents', {
      params: { path: { machine: machine.tag } }
    })
  );
  const standing = $derived((standingAsked.data ?? []).filter((consent) => !consent.taken_back_at));
  const standingFor = (line: LedgerLine) => standing.find((s) => s.category === line.category);
  /** Whether a line may be ticked as a whole: it goes by its rule, without a choice of items. */
  const byRule = (line: LedgerLine) => line.caution === 'safe' || standingFor(line) !== undefined;
  const lets = (line: LedgerLine) => letsOn(line, leftOut);

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
      if (line.caution === 'safe' && line.removable.count) picked.add(line.category);
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
  const tickedOf = (line: LedgerLine) => tickedOn(line, agreed, leftOut);
  const bytesOf = (line: LedgerLine) =>
    tickedOf(line).reduce((sum, [, item]) => sum + item.size, 0);

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
</script>

<p class="muted text-sm" role="status">
  {#if ledger.whole}
    <Term of="survey">Looked at</Term>
    <When at={ledger.taken_at} />. {count(ledger.lines.length, 'category')}.
    {#each ledger.volumes.filter((volume) => volume.surveyed_at) as volume (volume.mount)}
      <span class="lookhere"
        ><code>{volume.mount}</code> was left out; shown as of <When
          at={volume.surveyed_at}
        />.</span
      >
    {/each}
  {:else}
    <span class="lookhere">In part:</span> the survey has covered {count(fresh.size, 'category')}
    so far, or was stopped{#if ledger.lines.length > fresh.size}; the others are as they were{/if}.
  {/if}
</p>
<div class="overflow-x-auto">
  <table class="sheet cards" data-testid="ledger">
    <caption class="sr-only">what would be removed and what is kept, by category</caption>
    <thead>
      <tr>
        <td></td>
        <th scope="col"><Term of="category" /></th>
        <th scope="col" class="right">total</th>
        <th scope="col" class="right">removable</th>
        <th scope="col">kept, and why</th>
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
                      {size(place.total.size)}{#if place.programs_open?.length},
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
          <td class="right whitespace-nowrap" data-label="total">{size(line.total.size)}</td>
          <td class="right whitespace-nowrap" data-label="removable">
            {#if line.caution === 'report'}
              <button
                class="act"
                onclick={() => {
                  listing = line;
                  listingOpen = true;
                }}
                disabled={!line.total.count || !ledger.whole}
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
                disabled={!line.total.count || !ledger.whole}
              >
                <ListChecks aria-hidden="true" />
                {mine
                  ? `${size(bytesOf(line))} chosen`
                  : lets(line).count
                    ? `${size(lets(line).size)} needs approval`
                    : 'Choose items'}
              </button>
              {#if standingFor(line)}<div class="muted text-sm">standing consent</div>{/if}
            {:else}
              <strong>{size(lets(line).size)}</strong>
            {/if}
          </td>
          <td class="min-w-44" data-label="kept, and why">
            {#each line.kept as stay (stay.reason)}
              <div><span class="whitespace-nowrap">{size(stay.size)}</span> {stay.reason}</div>
            {:else}<span class="muted">nothing is kept</span>{/each}
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
      onchanged={() => refresh('/api/v2/machines/{machine}/standing-consents')}
    />
  </Listing>
{/if}
{#if ruled}
  <RuleEdit bind:open={ruleOpen} {machine} line={ruled} onsaved={onrules} />
{/if}

<CleanQuestion
  bind:open={asking}
  {machine}
  {ledger}
  {leftOut}
  {safe}
  {yes}
  {agreed}
  onbegun={() => {
    sessionStorage.removeItem(draft);
    onstarted();
  }}
/>
