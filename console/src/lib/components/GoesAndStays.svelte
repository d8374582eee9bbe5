<script lang="ts">
  import { api, inWords, type Ledger, type LedgerLine, type Machine } from '$lib/api/client';
  import { count, size } from '$lib/words';
  import ListChecks from '@lucide/svelte/icons/list-checks';
  import { SvelteSet } from 'svelte/reactivity';
  import Listing from './Listing.svelte';
  import Modal from './Modal.svelte';
  import RuleEdit from './RuleEdit.svelte';
  import When from './When.svelte';

  interface Props {
    machine: Machine;
    ledger: Ledger;
    busy: boolean;
    onrules: () => void;
    onstarted: () => void;
  }
  let { machine, ledger, busy, onrules, onstarted }: Props = $props();

  /** Chosen items of `ask` categories: their numbers in this survey's listing, and their bytes. */
  type Agreed = Record<string, { numbers: number[]; bytes: number }>;

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

  // a draft for each survey, so that a reload or a wrong key loses nothing
  const draft = $derived(`phylax-choice-${ledger.survey_id}`);
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
  function choose(key: string, numbers: number[], bytes: number) {
    const { [key]: _, ...others } = agreed;
    agreed = numbers.length ? { ...others, [key]: { numbers, bytes } } : others;
    keepDraft();
  }

  const safe = $derived(ledger.lines.filter((l) => picked.has(l.category)));
  const yes = $derived(ledger.lines.filter((l) => agreed[l.category]));
  const sum = $derived(
    safe.reduce((s, l) => s + l.goes.size, 0) +
      Object.values(agreed).reduce((s, a) => s + a.bytes, 0)
  );
  const chosen = $derived(safe.length + yes.length);
  const left = $derived(
    safe.flatMap((l) => l.stays.map((stay) => ({ name: l.name, ...stay }))).filter((s) => s.count)
  );

  async function clean() {
    starting = true;
    problem = '';
    const consents: number[] = [];
    for (const line of yes) {
      const { data, error } = await api.POST('/api/v1/consents', {
        body: {
          survey_id: ledger.survey_id,
          category: line.category,
          whole: false,
          numbers: agreed[line.category]?.numbers ?? [],
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
    const { error } = await api.POST('/api/v1/runs', {
      headers: { 'Idempotency-Key': crypto.randomUUID() },
      body: {
        machine_id: machine.id,
        work: 'clean',
        categories: [...safe, ...yes].map((l) => l.category),
        consent_ids: consents
      }
    });
    starting = false;
    if (error) {
      problem = inWords(error);
      return;
    }
    asking = false;
    sessionStorage.removeItem(draft);
    onstarted();
  }
</script>

<p class="muted text-sm">
  Looked at <When at={ledger.taken_at} />. {count(ledger.lines.length, 'category')}.
</p>
<div class="overflow-x-auto">
  <table class="sheet" data-testid="ledger">
    <thead>
      <tr>
        <td></td>
        <th>category</th>
        <th class="right">holds</th>
        <th class="right">goes</th>
        <th>stays, and why</th>
        <th>rule in force</th>
      </tr>
    </thead>
    <tbody>
      {#each ledger.lines as line (line.category)}
        {@const mine = agreed[line.category]}
        <tr>
          <td class="w-8">
            {#if line.caution === 'safe'}
              <input
                type="checkbox"
                aria-label="Clean {line.name}"
                checked={picked.has(line.category)}
                disabled={!line.goes.count}
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
            {#if line.programs_open.length}
              <div class="lookhere text-sm">Open: {line.programs_open.join(', ')}</div>
            {/if}
            {#if line.unread_count}
              <div class="lookhere text-sm">
                {count(line.unread_count, 'place')} could not be read
              </div>
            {/if}
          </td>
          <td class="right whitespace-nowrap">{size(line.holds.size)}</td>
          <td class="right whitespace-nowrap">
            {#if line.caution === 'ask'}
              <button
                class="act"
                onclick={() => {
                  listing = line;
                  listingOpen = true;
                }}
                disabled={!line.holds.count}
              >
                <ListChecks aria-hidden="true" />
                {mine
                  ? `${size(mine.bytes)} chosen`
                  : line.needs_yes.count
                    ? `${size(line.needs_yes.size)} needs a yes`
                    : 'Choose files'}
              </button>
            {:else}
              <strong>{size(line.goes.size)}</strong>
            {/if}
          </td>
          <td class="min-w-44">
            {#each line.stays as stay (stay.reason)}
              <div><span class="whitespace-nowrap">{size(stay.size)}</span> {stay.reason}</div>
            {:else}<span class="muted">nothing stays</span>{/each}
          </td>
          <td class="min-w-44">
            {line.rule_in_words}
            <div class="muted text-sm">
              from the {line.rule.off ? line.rule.off_from : line.rule.keep_for_from};
              <button
                class="plain"
                onclick={() => {
                  ruled = line;
                  ruleOpen = true;
                }}>change here</button
              >
            </div>
          </td>
        </tr>
        {#if shown === line.category}
          <tr>
            <td></td>
            <td colspan="5">
              <p class="muted text-sm">The largest:</p>
              <table class="w-full text-sm">
                <tbody>
                  {#each line.largest as item (item.place + item.path)}
                    <tr>
                      <td class="right w-24 whitespace-nowrap pr-3">{size(item.size)}</td>
                      <td class="w-40 whitespace-nowrap"><When at={item.aged_from} /></td>
                      <td class="path break-all">{item.path}</td>
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
  class="noprint bottom-0 flex flex-wrap items-center justify-between gap-3 border-t border-[var(--line)] bg-[var(--raised)] px-3 py-3"
>
  <span>
    Chosen: <strong data-testid="chosen-sum">{size(sum)}</strong>
    <span class="muted">in {count(chosen, 'category')}</span>
  </span>
  <button class="act main" disabled={!chosen || busy} onclick={() => (asking = true)}>
    {busy ? 'The machine is busy' : 'Clean…'}
  </button>
</div>

{#if listing}
  <Listing
    bind:open={listingOpen}
    surveyId={ledger.survey_id}
    line={listing}
    chosen={agreed[listing.category]?.numbers ?? []}
    onchosen={(numbers, bytes) => listing && choose(listing.category, numbers, bytes)}
  />
{/if}
{#if ruled}
  <RuleEdit bind:open={ruleOpen} {machine} line={ruled} onsaved={onrules} />
{/if}

<Modal bind:open={asking} title="Clean {machine.tag}?">
  <div class="space-y-4" data-testid="clean-dialogue">
    <div>
      <p class="lossy font-semibold">Gone for good, about {size(sum)}:</p>
      <ul class="mt-1 list-disc space-y-1 pl-5">
        {#each safe as line (line.category)}
          <li>{line.name}: {count(line.goes.count, 'item')}, {size(line.goes.size)}</li>
        {/each}
        {#each yes as line (line.category)}
          <li>
            {line.name}: the {count(agreed[line.category]?.numbers.length ?? 0, 'file')} you chose,
            {size(agreed[line.category]?.bytes)}
          </li>
        {/each}
      </ul>
    </div>
    <div>
      <p class="font-semibold">Left as it is:</p>
      <ul class="mt-1 list-disc space-y-1 pl-5">
        {#each left as stay (stay.name + stay.reason)}
          <li>{stay.name}: {count(stay.count, 'item')}, {size(stay.size)} – {stay.reason}</li>
        {/each}
        <li>What is in use by then, and everything not ticked</li>
      </ul>
    </div>
    {#if yes.length}
      <label class="field">
        <span>The client's word, for the record (if you asked)</span>
        <input class="box" bind:value={word} maxlength="400" placeholder="asked by phone" />
      </label>
    {/if}
    {#if problem}<p class="lossy">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="act" onclick={() => (asking = false)}>Not now</button>
      <button class="act loss" onclick={clean} disabled={starting}>
        {starting ? 'Asking the machine…' : 'Clean now'}
      </button>
    </div>
  </div>
</Modal>
